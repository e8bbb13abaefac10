using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>What people and tools want to read of a broker.</summary>
internal sealed class BrokerReports(PostgresServer server, ReportStatements sql, TimeProvider clock)
{
    private readonly HistoryMemory memory = new(Ring.Places, clock);

    public async Task<BrokerFigures> FiguresAsync(CancellationToken cancellationToken)
    {
        var (now, queues, workers) = (DateTimeOffset.MinValue, new List<QueueFigures>(), new List<WorkerFigures?>());
        var (rows, history) = (new List<(long, QueueCounts)>(),
            (IReadOnlyDictionary<long, IReadOnlyList<QueueCounts>>?)null);
        var since = memory.Since;
        await server.ReadAtOnceAsync(
            new RoundTrip()
                .Add(sql.History, row => rows.Add((row.GetInt32(0), Counts(row, row.Time(1), 2))),
                    Parameter.Of(since?.UtcDateTime))
                .Add(sql.Figures, Read, server.Now)
                .Add(sql.Workers, row => workers.Add(WorkerJson.Read(row.GetString(0), row.Time(1), row.Time(2))),
                    server.Now),
            cancellationToken).ConfigureAwait(false);
        return new BrokerFigures(server.DisplayName, now, queues, WorkerJson.Sorted(workers));

        void Read(NpgsqlDataReader row)
        {
            now = row.Time(2);
            history ??= memory.With(rows, since);
            var (all, inHand, later) = (row.GetInt64(3), row.GetInt64(4), row.GetInt64(5));
            queues.Add(new QueueFigures(
                row.GetString(1), Math.Max(0, all - inHand - later), inHand, later, row.GetInt64(6), row.Age(7))
            {
                Types = row.GetFieldValue<string[]>(8),
                History = [.. history.GetValueOrDefault(row.GetInt32(0)) ?? [], Counts(row, now, 9)],
            });
        }
    }

    private static QueueCounts Counts(NpgsqlDataReader row, DateTimeOffset at, int first) =>
        new(at, row.GetInt64(first), row.GetInt64(first + 1), row.GetInt64(first + 2), row.GetInt64(first + 3));

    /// <summary>A worker lives; one of all writes what has been counted into the history.</summary>
    public Task BeatAsync(WorkerFigures worker, TimeSpan validFor, CancellationToken cancellationToken) =>
        server.RunAsync(
            "tell of a worker in",
            new RoundTrip().NeedNotSurvive()
                .Add(sql.Beat, server.Now, Parameter.Of(worker.Id), Parameter.Of((TimeSpan?)validFor),
                    Parameter.Of(WorkerJson.Write(worker)))
                .Add(sql.Remember, server.Now),
            cancellationToken);

    public Task LeaveAsync(string id, CancellationToken cancellationToken) => server.RunAsync(
        "sign a worker off in", new RoundTrip().NeedNotSurvive().Add(sql.Leave, Parameter.Of(id)), cancellationToken);
}
