using GentleCourier.Engines;
using GentleCourier.Publishing;
using GentleCourier.Watching;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What people and tools want to read of a store.</summary>
internal static class StoreReports
{
    public static OutboxFigures Outbox(SqliteConnection connection, long now)
    {
        using var statement = new Statement(connection, $"""
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
            Clock = Clock(connection, now),
        };
        statement.Reset();
        return figures;
    }

    public static ClockFigures? Clock(SqliteConnection connection, long now)
    {
        using var clocks = new ClockStatements(connection);
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

    private const string SelectHeld = """
        SELECT event_id, type, attempts, error, iif(h.due IS NULL, NULL, coalesce(k.due, h.due)), added, seq,
            h.partition_key, event, address
        FROM courier_outbox_held h LEFT JOIN courier_held_key k ON k.partition_key = h.partition_key
        """;

    public static IReadOnlyList<HeldEvent> Held(SqliteConnection connection, FileClock time, int limit, long after)
    {
        using var statement = new Statement(connection, $"{SelectHeld} WHERE seq > ? ORDER BY seq LIMIT ?");
        return Read(statement.Bind(1, after).Bind(2, limit), time);
    }

    public static HeldEvent? FindHeld(SqliteConnection connection, FileClock time, long row)
    {
        using var statement = new Statement(connection, $"{SelectHeld} WHERE seq = ?");
        return Read(statement.Bind(1, row), time).FirstOrDefault();
    }

    private static List<HeldEvent> Read(Statement statement, FileClock time)
    {
        var (held, bytes) = (new List<HeldEvent>(), 0);
        while (statement.Step())
        {
            held.Add(new HeldEvent(
                statement.Int64(6), statement.Text(0)!, statement.Text(1)!, (int)statement.Int64(2),
                statement.Text(3)!, statement.NullableInt64(4) is { } at ? time.Shown(at) : null,
                time.Shown(statement.Int64(5)))
            {
                PartitionKey = HeldKeys.KeyOf(statement.Text(9), statement.Text(7)),
                Address = statement.Text(9),
                Json = statement.Blob(8),
            });
            bytes += held[^1].Json.Length;
            if (bytes < Budget.Bytes) continue;
            statement.Reset();
            break;
        }
        return held;
    }

    public static OtherDataFigures? OtherData(SqliteConnection connection, long now)
    {
        using var statement = new Statement(connection, """
            SELECT (SELECT count(*) FROM (
                    SELECT 1 FROM courier_inbox WHERE other IS NOT NULL AND other_at > ?1 LIMIT ?2)),
                queue, source, event_id, hash, other, other_at
            FROM courier_inbox WHERE other IS NOT NULL AND other_at > ?1 ORDER BY other_at DESC LIMIT 1
            """);
        var since = now - (long)OtherDataFigures.Memory.TotalMilliseconds;
        if (!statement.Bind(1, since).Bind(2, OtherDataFigures.MostEvents).Step()) return null;
        var figures = new OtherDataFigures(
            (int)statement.Int64(0), statement.Text(1)!, statement.Text(2)!, statement.Text(3)!,
            OtherDataFigures.HashOf(statement.Int64(4)), OtherDataFigures.HashOf(statement.Int64(5)),
            TimeSpan.FromMilliseconds(now - statement.Int64(6)));
        statement.Reset();
        return figures;
    }

    public static DateTimeOffset? ForgottenBefore(SqliteConnection connection, FileClock time)
    {
        using var statement = new Statement(connection, "SELECT max(before) FROM courier_store_chore");
        return statement.Scalar() is { } before ? time.Shown(before) : null;
    }

    public static IReadOnlyList<InboxEntry> Inbox(SqliteConnection connection, FileClock time, string queue)
    {
        using var statement = new Statement(
            connection, "SELECT source, event_id, copies, handled FROM courier_inbox WHERE queue = ? ORDER BY handled");
        statement.Bind(1, queue);
        var entries = new List<InboxEntry>();
        while (statement.Step())
        {
            entries.Add(new InboxEntry(
                statement.Text(0)!, statement.Text(1)!, (int)statement.Int64(2),
                time.Shown(statement.Int64(3))));
        }
        return entries;
    }
}
