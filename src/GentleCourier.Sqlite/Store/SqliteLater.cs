using System.Data.Common;
using System.Text.Json;
using System.Text.Json.Serialization;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>Events that wait in a store's file until they are due.</summary>
internal sealed class SqliteLater(SqliteStore store, Signal changed) : ILaterPort
{
    /// <summary>
    /// When the next events, by a delay and by the clock, and the next schedule are due, and by which clock, as
    /// columns; <c>?1</c> are the names of schedules that nothing is to be said of, as a JSON array.
    /// </summary>
    public const string Next = $"""
        (SELECT min(due) FROM courier_outbox_later WHERE by_clock = 0),
        (SELECT min(due) FROM courier_outbox_later WHERE by_clock = 1),
        (SELECT min(due) FROM courier_schedule WHERE name NOT IN (SELECT value FROM json_each(?1))),
        {ClockStatements.Ahead}, {ClockStatements.IsDoubted}
        """;

    private Dues known = new(null, null);
    private AgreedClock? clock;
    private string except = "[]";

    /// <summary>What is bound to <see cref="Next"/>.</summary>
    public string Except => Volatile.Read(ref except);

    public Task AddAsync(
        DbTransaction transaction, IReadOnlyList<LaterDraft> events, CancellationToken cancellationToken) =>
        store.InServiceAsync(
            transaction, "add an event for later to",
            (service, now) =>
            {
                foreach (var (@event, due) in events)
                    service.AddToLater(@event, now, Milliseconds(due.From(Time(now))), byClock: due.Time is not null);
                return events.Count;
            },
            cancellationToken);

    public Task<DueStep> MoveDueAsync(
        long term, int limit, IReadOnlyCollection<string> exceptNames, CancellationToken cancellationToken)
    {
        Volatile.Write(
            ref except, JsonSerializer.Serialize([.. exceptNames], NamesJson.Default.StringArray));
        FaultPoint.Pass(FaultPoint.DueNotMoved);
        return store.TakeTurnAsync(
            statements =>
            {
                var now = store.Now;
                var clocks = LookAtClocks(statements, term, now);
                var next = DuesOf(statements.Connection);
                var late = next.Later is { } first ? TimeSpan.FromMilliseconds(now - first) : default;
                var moved = next.Later <= now ? statements.MoveDue(term, now, limit) : 0;
                if (moved > 0)
                {
                    FaultPoint.Pass(FaultPoint.DueMovedNotTold);
                    next = DuesOf(statements.Connection);
                }
                Volatile.Write(ref known, next);
                return new DueStep(moved, In(next.Later, now), In(next.Schedule, now), late, clocks);
            },
            cancellationToken);
    }

    /// <summary>Has the store go by the clock that most of its relays have, and says what is new of it.</summary>
    private ClockNews? LookAtClocks(StoreStatements statements, long term, long now)
    {
        if (statements.Clocks.IsToSettle(now)) statements.SettleClock(term, now);
        var (before, after) = (clock, statements.Clocks.Agreed);
        clock = after;
        if (after is not var (ahead, _, standing, doubted)) return null;
        // After a restart of the host it is not set, but learned.
        var by = before is { Ahead: var was, Standing: not Standing.NotYet } && !ClockVote.AreNear(ahead, was)
            ? TimeSpan.FromMilliseconds(ahead - was) : TimeSpan.Zero;
        if (by == TimeSpan.Zero && (doubted is null) == (before?.Doubted is null)) return null;
        return new ClockNews(by, standing == Standing.ByHand, doubted is null ? null : Apart(statements, now, ahead));
    }

    private static TimeSpan Apart(StoreStatements statements, long now, long ahead) => TimeSpan.FromMilliseconds(
        statements.Clocks.Relays(now).Select(relay => relay.Ahead - ahead).MaxBy(Math.Abs));

    public Task SetClockAsync(DateTimeOffset time, CancellationToken cancellationToken) =>
        store.TakeTurnAsync(
            statements => statements.InTransaction(_ =>
            {
                var now = store.Now;
                statements.Clocks.Set(now, Milliseconds(time) - now, Standing.ByHand);
                return true;
            }),
            cancellationToken);

    public Task WaitAsync(TimeSpan limit, CancellationToken cancellationToken) =>
        store.WaitForCommitAsync(
            changed, statements => IsSooner(DuesOf(statements.Connection)), limit, cancellationToken);

    /// <summary>After another connection's commit, with what is due next then.</summary>
    public void LookAround(Statement statement, int first)
    {
        if (IsSooner(DuesOf(statement, first))) changed.Raise();
    }

    private bool IsSooner(Dues next)
    {
        var soon = store.Now + (long)LaterDraft.Soon.TotalMilliseconds;
        var before = Volatile.Read(ref known);
        return next.Later < soon && next.Later != before.Later
            || next.Schedule < soon && next.Schedule != before.Schedule;
    }

    public Task TellAsync(DbConnection connection, CancellationToken cancellationToken) =>
        // Whoever commits has changed the file, and that is what is watched.
        Task.CompletedTask;

    public DateTimeOffset? Stamp => Time(store.Now);

    private Dues DuesOf(SqliteConnection connection)
    {
        using var next = Statement.On(connection, $"SELECT {Next}");
        next.Bind(1, Except).Step();
        var dues = DuesOf(next, 0);
        next.Reset();
        return dues;
    }

    /// <summary>By the file's time; what is named by a clock that is in doubt is not.</summary>
    private static Dues DuesOf(Statement row, int first)
    {
        var (delayed, ahead) = (row.NullableInt64(first), row.Int64(first + 3));
        if (row.Int64(first + 4) != 0) return new(delayed, null);
        var timed = row.NullableInt64(first + 1) - ahead;
        return new(timed < delayed ? timed : delayed ?? timed, row.NullableInt64(first + 2) - ahead);
    }

    private static TimeSpan? In(long? time, long now) =>
        time is { } at ? TimeSpan.FromMilliseconds(at - now) : null;

    private static DateTimeOffset Time(long milliseconds) => DateTimeOffset.FromUnixTimeMilliseconds(milliseconds);

    private static long Milliseconds(DateTimeOffset time) => time.ToUnixTimeMilliseconds();

    /// <summary>When the next event and the next schedule are due.</summary>
    private sealed record Dues(long? Later, long? Schedule);
}

[JsonSerializable(typeof(string[]))]
internal sealed partial class NamesJson : JsonSerializerContext;
