using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Tables;
using GentleCourier.Watching;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What people and tools want to read of a broker.</summary>
internal static class BrokerReports
{
    // What waits is counted by the writers, and the oldest of it is first in line, or is found by an index: neither
    // depends on how many there are. Of what is ready and what comes later the fewer are looked at one by one, and so
    // are leased ones, as many as workers hold.
    private const string FiguresSql = """
        SELECT q.id, q.name, q.waiting, q.in_hand, q.dead,
               CASE WHEN q.later < ?2 THEN q.later ELSE q.waiting -
                   (SELECT count(*) FROM courier_place WHERE queue = q.id AND due <= ?1) END,
               (SELECT c.arrived FROM courier_place p JOIN courier_copy c ON c.id = p.copy WHERE p.queue = q.id
                   ORDER BY p.due, p.copy LIMIT 1),
               (SELECT c.arrived FROM courier_copy c WHERE c.id = (SELECT min(copy) FROM courier_place
                   WHERE queue = q.id AND first_attempt IS NOT NULL)),
               (SELECT min(c.arrived) FROM courier_lease l JOIN courier_copy c ON c.id = l.copy WHERE l.queue = q.id),
               q.came, q.accepted, q.failed, q.set_aside
        FROM (SELECT *, (SELECT count(*) FROM (
            SELECT 1 FROM courier_place WHERE queue = id AND due > ?1 LIMIT ?2)) AS later FROM courier_queue) q
        ORDER BY q.name
        """;
    private const int FewLater = 10_000;

    public static BrokerFigures Figures(SqliteConnection connection, string broker, long now, HistoryMemory memory)
    {
        // All of one moment.
        using var transaction = connection.BeginTransaction(deferred: true);
        var types = BrokerTopology.Read(connection).Routes.ToLookup(r => r.Queue, r => r.Type);
        var history = History(connection, memory);
        using var statement = Statement.On(connection, FiguresSql);
        statement.Bind(1, now).Bind(2, FewLater);
        var queues = new List<QueueFigures>();
        while (statement.Step())
        {
            var (name, later) = (statement.Text(1)!, statement.Int64(5));
            var oldest = new[] { statement.NullableInt64(6), statement.NullableInt64(7), statement.NullableInt64(8) }
                .Min();
            queues.Add(new QueueFigures(
                name, statement.Int64(2) - later, statement.Int64(3), later, statement.Int64(4),
                oldest is { } arrived ? TimeSpan.FromMilliseconds(Math.Max(0, now - arrived)) : null)
            {
                Types = [.. types[name]],
                History = [.. history.GetValueOrDefault(statement.Int64(0)) ?? [], Counts(statement, Time(now), 9)],
            });
        }
        return new BrokerFigures(broker, Time(now), queues, Workers(connection, now));
    }

    private static IReadOnlyDictionary<long, IReadOnlyList<QueueCounts>> History(
        SqliteConnection connection, HistoryMemory memory)
    {
        var since = memory.Since;
        using var statement = Statement.On(connection, """
            SELECT queue, at, came, accepted, failed, set_aside FROM courier_history WHERE at > ?1 ORDER BY at
            """);
        statement.Bind(1, since?.ToUnixTimeMilliseconds() ?? long.MinValue);
        var rows = new List<(long, QueueCounts)>();
        while (statement.Step()) rows.Add((statement.Int64(0), Counts(statement, Time(statement.Int64(1)), 2)));
        return memory.With(rows, since);
    }

    private static QueueCounts Counts(Statement row, DateTimeOffset at, int first) =>
        new(at, row.Int64(first), row.Int64(first + 1), row.Int64(first + 2), row.Int64(first + 3));

    /// <summary>Those in hand first, by their number, and then those that wait, by when they are due.</summary>
    public static Sql Look(Sql queue, QueueCursor from, int limit)
    {
        var (at, copy) = from.AfterTimed;
        return $"""
            SELECT * FROM (
                SELECT 0 AS part, NULL AS at, l.copy AS place, c.event AS event, l.attempts, 2, l.until, c.arrived,
                    l.error, c.history, l.worker
                FROM courier.lease l JOIN courier.copy c ON c.id = l.copy
                WHERE l.queue = {queue} AND l.copy > {from.AfterCopy} ORDER BY l.copy LIMIT {limit})
            UNION ALL SELECT * FROM (
                SELECT 1, p.due, p.copy, c.event, p.attempts, iif(p.due > {Sql.Now}, 1, 0),
                    iif(p.due > {Sql.Now}, p.due, NULL), c.arrived, p.error, c.history, NULL
                FROM courier.place p JOIN courier.copy c ON c.id = p.copy
                WHERE p.queue = {queue} AND (p.due, p.copy) > ({at}, {copy}) ORDER BY p.due, p.copy LIMIT {limit})
            LIMIT {limit}
            """;
    }

    private static IReadOnlyList<WorkerFigures> Workers(SqliteConnection connection, long now)
    {
        using var statement = Statement.On(connection, "SELECT report, seen FROM courier_worker WHERE until > ?");
        statement.Bind(1, now);
        var workers = new List<WorkerFigures?>();
        while (statement.Step())
            workers.Add(WorkerJson.Read(statement.Text(0)!, Time(statement.Int64(1)), Time(now)));
        return WorkerJson.Sorted(workers);
    }

    private static DateTimeOffset Time(long milliseconds) => DateTimeOffset.FromUnixTimeMilliseconds(milliseconds);
}
