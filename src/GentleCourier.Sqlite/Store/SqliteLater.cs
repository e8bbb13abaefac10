using System.Data.Common;
using System.Text.Json;
using System.Text.Json.Serialization;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>Events that wait in a store's file until they are due.</summary>
internal sealed class SqliteLater(SqliteStore store, Signal changed) : ILaterPort
{
    private const string Columns = "seq, event_id, type, partition_key, due, added, event";

    /// <summary>
    /// When the next event and the next schedule are due, as columns; <c>?1</c> are the names of those that nothing is
    /// to be said of, as a JSON array.
    /// </summary>
    public const string Next = """
        (SELECT min(due) FROM courier_outbox_later),
        (SELECT min(due) FROM courier_schedule WHERE name NOT IN (SELECT value FROM json_each(?1)))
        """;

    private Dues known = new(null, null);
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
                    service.AddToLater(@event, now, Milliseconds(due.From(Time(now))));
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
                var next = DuesOf(statements.Connection);
                var late = next.Later is { } first ? TimeSpan.FromMilliseconds(now - first) : default;
                var moved = next.Later <= now ? statements.MoveDue(term, now, limit) : 0;
                if (moved > 0)
                {
                    FaultPoint.Pass(FaultPoint.DueMovedNotTold);
                    next = DuesOf(statements.Connection);
                }
                Volatile.Write(ref known, next);
                return new DueStep(moved, In(next.Later, now), In(next.Schedule, now), late);
            },
            cancellationToken);
    }

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

    public Task<DateTimeOffset> ReadTimeAsync(CancellationToken cancellationToken) =>
        store.ReadAsync(_ => Time(store.Now), cancellationToken);

    public Task<IReadOnlyList<LaterEvent>> ReadAsync(LaterFilter which, int limit, LaterEvent? after,
        DbTransaction? transaction, CancellationToken cancellationToken) => transaction is null
        ? store.ReadAsync<IReadOnlyList<LaterEvent>>(
            connection => Read(connection, which, limit, after), cancellationToken)
        : store.InServiceAsync<IReadOnlyList<LaterEvent>>(transaction, "read the events for later of",
            (service, _) => Read(service.Connection, which, limit, after), cancellationToken);

    public Task<int> CancelAsync(
        LaterFilter which, DbTransaction? transaction, CancellationToken cancellationToken) =>
        WriteAsync(
            transaction,
            connection =>
            {
                using var cancel = new Statement(connection, $"DELETE FROM courier_outbox_later WHERE {Where(which)}");
                return Bind(cancel, which, 1).Run();
            },
            cancellationToken);

    public Task<int> MoveAsync(IReadOnlyList<LaterEvent> events, Due due, DbTransaction? transaction,
        CancellationToken cancellationToken) =>
        WriteAsync(
            transaction,
            connection =>
            {
                using var move = new Statement(
                    connection, "UPDATE courier_outbox_later SET due = ?, event = ? WHERE seq = ? AND event_id = ?");
                var time = Milliseconds(due.From(Time(store.Now)));
                return events.Sum(
                    e => move.Bind(1, time).Bind(2, e.Json.Span).Bind(3, e.Row).Bind(4, e.Id).Run());
            },
            cancellationToken);

    private Task<int> WriteAsync(
        DbTransaction? transaction, Func<SqliteConnection, int> write, CancellationToken cancellationToken) =>
        transaction is null
            ? store.TakeTurnAsync(statements => statements.InTransaction(write), cancellationToken)
            : store.InServiceAsync(transaction, "change the events for later of",
                (service, _) => write(service.Connection), cancellationToken);

    private static List<LaterEvent> Read(
        SqliteConnection connection, LaterFilter which, int limit, LaterEvent? after)
    {
        var behind = after is null ? "" : "AND (due, seq) > (?, ?)";
        using var statement = new Statement(
            connection, $"""
            SELECT {Columns} FROM courier_outbox_later WHERE {Where(which)} {behind} ORDER BY due, seq LIMIT {limit}
            """);
        Bind(statement, which, 1);
        var next = Count(which) + 1;
        if (after is not null) statement.Bind(next, Milliseconds(after.Due)).Bind(next + 1, after.Row);
        var (events, bytes) = (new List<LaterEvent>(), 0L);
        while (statement.Step())
        {
            events.Add(new LaterEvent(
                statement.Int64(0), statement.Text(1)!, statement.Text(2)!, statement.Text(3),
                Time(statement.Int64(4)), Time(statement.Int64(5)), statement.Blob(6)));
            bytes += events[^1].Json.Length;
            if (bytes >= Budget.Bytes) break;
        }
        return events;
    }

    private static string Where(LaterFilter which) => string.Join(" AND ", [
        "TRUE",
        .. which.Id is null ? (string[])[] : ["event_id = ?"],
        .. which.PartitionKey is null ? (string[])[] : ["partition_key = ?"],
        .. which.Type is null ? (string[])[] : ["type = ?"]]);

    private static int Count(LaterFilter which) =>
        new[] { which.Id, which.PartitionKey, which.Type }.Count(said => said is not null);

    private static Statement Bind(Statement statement, LaterFilter which, int first)
    {
        foreach (var said in new[] { which.Id, which.PartitionKey, which.Type })
            if (said is not null) statement.Bind(first++, said);
        return statement;
    }

    private Dues DuesOf(SqliteConnection connection)
    {
        using var next = new Statement(connection, $"SELECT {Next}");
        next.Bind(1, Except).Step();
        var dues = DuesOf(next, 0);
        next.Reset();
        return dues;
    }

    private static Dues DuesOf(Statement row, int first) => new(row.NullableInt64(first), row.NullableInt64(first + 1));

    private static TimeSpan? In(long? time, long now) =>
        time is { } at ? TimeSpan.FromMilliseconds(at - now) : null;

    private static DateTimeOffset Time(long milliseconds) => DateTimeOffset.FromUnixTimeMilliseconds(milliseconds);

    private static long Milliseconds(DateTimeOffset time) => time.ToUnixTimeMilliseconds();

    /// <summary>When the next event and the next schedule are due.</summary>
    private sealed record Dues(long? Later, long? Schedule);
}

[JsonSerializable(typeof(string[]))]
internal sealed partial class NamesJson : JsonSerializerContext;
