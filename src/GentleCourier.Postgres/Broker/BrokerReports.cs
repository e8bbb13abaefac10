using System.Globalization;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>What people and tools want to read of a broker.</summary>
internal sealed class BrokerReports(PostgresServer server, BrokerStatements sql, BrokerTopology topology)
{
    public async Task<BrokerFigures> FiguresAsync(CancellationToken cancellationToken)
    {
        var (now, queues, workers) = (DateTimeOffset.MinValue, new List<QueueFigures>(), new List<WorkerFigures?>());
        var history = new Dictionary<int, List<QueueCounts>>();
        await server.ReadAtOnceAsync(
            new RoundTrip()
                .Add(sql.History, row => HistoryOf(row.GetInt32(0)).Add(Counts(row, row.Time(1), 2)))
                .Add(sql.Figures, Read, server.Now)
                .Add(sql.Workers, row => workers.Add(WorkerJson.Read(row.GetString(0), row.Time(1), row.Time(2))),
                    server.Now),
            cancellationToken).ConfigureAwait(false);
        return new BrokerFigures(server.DisplayName, now, queues, WorkerJson.Sorted(workers));

        void Read(NpgsqlDataReader row)
        {
            now = row.Time(2);
            var (id, all, inHand, later) = (row.GetInt32(0), row.GetInt64(3), row.GetInt64(4), row.GetInt64(5));
            queues.Add(new QueueFigures(
                row.GetString(1), Math.Max(0, all - inHand - later), inHand, later, row.GetInt64(6), row.Age(7))
            {
                Types = row.GetFieldValue<string[]>(8),
                History = [.. HistoryOf(id), Counts(row, now, 9)],
            });
        }

        List<QueueCounts> HistoryOf(int queue) =>
            history.TryGetValue(queue, out var known) ? known : history[queue] = [];
    }

    private static QueueCounts Counts(NpgsqlDataReader row, DateTimeOffset at, int first) =>
        new(at, row.GetInt64(first), row.GetInt64(first + 1), row.GetInt64(first + 2), row.GetInt64(first + 3));

    public async Task<IReadOnlyList<QueuedEvent>> PeekAsync(
        string queue, int limit, CancellationToken cancellationToken)
    {
        var id = await topology.IdOfAsync(queue, cancellationToken).ConfigureAwait(false);
        var events = new List<QueuedEvent>();
        await server.RunAsync(
            "read",
            new RoundTrip().Add(
                sql.Peek,
                row => events.Add(new QueuedEvent(
                    row.Bytes(0), row.GetInt32(1), (QueuedState)row.GetInt32(2), row.IsDBNull(3) ? null : row.Time(3),
                        row.Time(4), row.Text(5))),
                server.Now, Parameter.Of(id), Parameter.Of(limit)),
            cancellationToken).ConfigureAwait(false);
        return events;
    }

    public async Task<IReadOnlyList<DeadLetter>> DeadLettersAsync(
        string? queue, int limit, CancellationToken cancellationToken)
    {
        NpgsqlParameter of = new() { NpgsqlDbType = NpgsqlTypes.NpgsqlDbType.Integer, Value = DBNull.Value };
        if (queue is not null) of.Value = await topology.IdOfAsync(queue, cancellationToken).ConfigureAwait(false);
        return await ReadAsync(sql.DeadLetters, cancellationToken, of, Parameter.Of(limit)).ConfigureAwait(false);
    }

    public async Task<DeadLetter?> FindDeadLetterAsync(string id, CancellationToken cancellationToken) =>
        long.TryParse(id, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
        ? (await ReadAsync(sql.DeadLetter, cancellationToken, Parameter.Of(number)).ConfigureAwait(false))
            .FirstOrDefault()
        : null;

    private async Task<List<DeadLetter>> ReadAsync(
        string statement, CancellationToken cancellationToken, params NpgsqlParameter[] parameters)
    {
        var letters = new List<DeadLetter>();
        await server.RunAsync("read", new RoundTrip().Add(statement, Read, parameters), cancellationToken)
            .ConfigureAwait(false);
        return letters;

        void Read(NpgsqlDataReader row) => letters.Add(new DeadLetter
        {
            Id = row.GetInt64(0).ToString(CultureInfo.InvariantCulture),
            Queue = row.GetString(1),
            Reason = row.GetString(2),
            Failure = row.IsDBNull(3) ? null : new Failure(row.GetString(3), row.Text(4) ?? "", row.Text(5) ?? ""),
            Attempts = row.GetInt32(6),
            Worker = row.GetString(7),
            Arrived = row.Time(8),
            FirstAttempt = row.Time(9),
            SetAside = row.Time(10),
            Json = row.Bytes(11),
        });
    }
}
