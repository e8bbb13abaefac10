using GentleCourier.Engines;
using GentleCourier.Publishing;
using GentleCourier.Watching;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What people and tools want to read of a store.</summary>
internal static class StoreReports
{
    public static OutboxFigures Outbox(SqliteConnection connection, FileClock time)
    {
        var now = time.Now;
        using var statement = Statement.On(connection, $"""
            SELECT (SELECT count(*) FROM (SELECT 1 FROM courier_outbox LIMIT ?2)),
                   (SELECT max(seq) FROM courier_outbox) - (SELECT min(seq) FROM courier_outbox) + 1,
                   (SELECT count(*) FROM (SELECT 1 FROM courier_outbox_held LIMIT ?3)),
                   (SELECT count(*) FROM (SELECT due FROM courier_outbox_held ORDER BY seq LIMIT ?3) WHERE due IS NULL),
                   (SELECT added FROM courier_outbox ORDER BY seq LIMIT 1),
                   (SELECT added FROM courier_outbox_held WHERE due IS NOT NULL ORDER BY seq LIMIT 1),
                   iif(until >= ?1, relay, NULL), error,
                   (SELECT count(*) FROM (SELECT 1 FROM courier_outbox_later LIMIT ?4)),
                   (SELECT min(due) FROM (
                       SELECT min(due) AS due FROM courier_outbox_later WHERE by_clock = 0
                       UNION ALL
                       SELECT min(due) - {ClockStatements.Ahead} FROM (
                           SELECT min(due) AS due FROM courier_outbox_later WHERE by_clock = 1
                           UNION ALL SELECT min(due) FROM courier_schedule)
                       WHERE NOT {ClockStatements.IsDoubted})),
                   (SELECT count(DISTINCT generation) FROM courier_confirmed)
            FROM courier_relay
            """);
        statement.Bind(1, now).Bind(2, OutboxCount.Fresh + 1).Bind(3, OutboxCount.Kept + 1).Bind(4, OutboxCount.Later)
            .Step();
        var oldest = new[] { statement.NullableInt64(4), statement.NullableInt64(5) }.Min();
        var age = oldest is { } added ? TimeSpan.FromMilliseconds(Math.Max(0, now - added)) : (TimeSpan?)null;
        var figures = OutboxCount.Figures(
            statement.Int64(0), statement.NullableInt64(1), statement.Int64(2), statement.Int64(3), age,
            statement.Text(6), statement.Text(7)) with
        {
            Later = statement.Int64(8),
            NextDueIn = statement.NullableInt64(9) is { } due ? TimeSpan.FromMilliseconds(due - now) : null,
            FormerBrokers = OutboxCount.Former(statement.Int64(10)),
            Clock = Clock(connection, time),
        };
        statement.Reset();
        return figures;
    }

    public static ClockFigures? Clock(SqliteConnection connection, FileClock time)
    {
        using var clocks = new ClockStatements(connection, time);
        var now = time.Now;
        if (clocks.Agreed is not { } agreed || agreed is { Standing: Standing.NotYet, Doubted: null }) return null;
        var apart = clocks.Relays(now).Select(r => (r.Relay, Ahead: r.Ahead - agreed.Ahead))
            .Where(r => !ClockVote.AreNear(r.Ahead, 0)).OrderByDescending(r => Math.Abs(r.Ahead)).ToList();
        return new ClockFigures(
            agreed.Doubted is { } since ? TimeSpan.FromMilliseconds(Math.Max(0, now - since)) : null,
            DateTimeOffset.FromUnixTimeMilliseconds(now + agreed.Ahead),
            [.. apart.Select(r => new RelayClockFigures(r.Relay, TimeSpan.FromMilliseconds(r.Ahead)))]);
    }

    /// <param name="store">The clock that the store goes by; null: nobody has said.</param>
    /// <param name="here">What this host's clock says.</param>
    public static Check Examine(ClockFigures? store, DateTimeOffset here)
    {
        const string Name = "clock";
        const string Next = "set the one that is wrong right, or say what time it is: courier outbox set-clock";
        if (store is null) return Check.Good(Name, "no relay has said yet what time it is");
        var apart = string.Join(", ", store.Apart.Select(r => $"that of {r.Relay} {Findings.Ahead(r.Ahead)} it"));
        if (store.DoubtedFor is { } doubted)
            return Check.Wrong(Name, $"no majority of the relays' clocks agrees ({apart}): schedules, and events for a "
                + $"time, wait for {Findings.For(doubted)}; {Next}");
        if (apart.Length > 0) return Check.Wrong(Name, $"the relays' clocks differ from the store's: {apart}; {Next}");
        var ahead = here - store.Time;
        return ClockVote.AreNear((long)ahead.TotalMilliseconds, 0)
            ? Check.Good(Name, "the store's agrees with this host's, and those of its relays, to within two seconds")
            : Check.Wrong(Name, $"this host's {Findings.Ahead(ahead)} the store's, by which schedules, and events "
                + $"for a time, leave; {Next}");
    }
}
