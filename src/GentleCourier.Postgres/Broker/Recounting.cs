using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>Counts the rows of queues, and mends their tallies.</summary>
internal sealed class Recounting(PostgresServer server, BrokerStatements sql, ReportStatements reports)
{
    public async Task<long> EstimateRowsAsync(CancellationToken cancellationToken)
    {
        var rows = 0L;
        await server.RunAsync(
            "read", new RoundTrip().Add(reports.EstimateRows, row => rows = row.GetInt64(0)), cancellationToken)
            .ConfigureAwait(false);
        return rows;
    }

    public async Task<IReadOnlyList<Recounted>> RunAsync(TimeSpan within, CancellationToken cancellationToken)
    {
        var (queues, counted) = (new List<(int Id, string Name)>(), new List<Recounted>());
        await server.RunAsync(
            "read", new RoundTrip().Add(sql.QueueIds, row => queues.Add((row.GetInt32(0), row.GetString(1)))),
            cancellationToken).ConfigureAwait(false);
        foreach (var (id, name) in queues)
        {
            var (waiting, dead) = (0L, 0L);
            try
            {
                await server.RunAsync(
                    "count the events of",
                    new RoundTrip().Add(
                        "SELECT set_config('statement_timeout', $1, true)", static _ => { },
                        // 0 would be no limit.
                        Parameter.Of($"{Math.Max(1, (long)within.TotalMilliseconds)}ms"))
                        .Add(reports.Recount, row => (waiting, dead) = (row.GetInt64(0), row.GetInt64(1)),
                            Parameter.Of(id)),
                    cancellationToken, within + PostgresServer.Limit).ConfigureAwait(false);
                if ((waiting, dead) != (0, 0)) counted.Add(new(name, waiting, dead));
            }
            catch (CourierException e)
                when (e.InnerException is PostgresException { SqlState: PostgresErrorCodes.QueryCanceled })
            {
                counted.Add(new(name, null, null));
            }
        }
        return counted;
    }
}
