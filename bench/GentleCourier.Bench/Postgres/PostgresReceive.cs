using System.Diagnostics;
using System.Text.Json;
using Microsoft.Extensions.DependencyInjection;
using NpgsqlTypes;

namespace GentleCourier.Bench.Postgres;

/// <summary>
/// Receiving and settling without an inbox, by two workers with a connection each. The bare loop leases and deletes
/// batches of the same size; or it claims and deletes in one, which loses what was in hand when it is killed.
/// </summary>
internal sealed class PostgresReceive(int waiting, bool leased = true) : IBenchmark
{
    private const int Prefetch = 100, Workers = 2;

    public string Name => waiting < 1_000_000 ? "pg-receive" : leased ? "pg-receive-1m" : "pg-claim-1m";

    public string What =>
        $"PostgreSQL: receive, read and settle, 2 workers, prefetch {Prefetch}, no inbox, {waiting:N0} more waiting, "
        + "against a bare "
        + (leased ? "lease and delete" : "claim-and-delete, which loses what was in hand");

    public int Events => 100_000;

    public async Task<double> OursAsync(Workshop workshop)
    {
        await using var server = new ServerWorkshop();
        await server.FillAsync($"ours_{waiting}", Events + waiting);
        var counter = new Counter();
        for (var worker = 0; worker < Workers; worker++)
        {
            var host = server.Host(
                ServerWorkshop.Address("inbox"), ServerWorkshop.Address($"ours_{waiting}"),
                courier => courier.Receive("taps", queue =>
                {
                    queue.Options.Prefetch = Prefetch;
                    queue.Options.Inbox = false;
                    queue.Handle<Tap, CountingReceiver>();
                }),
                services: services => services.AddSingleton(counter));
            await host.StartAsync();
        }
        // What came while they started is not counted.
        var (before, began) = (counter.Count, Stopwatch.GetTimestamp());
        while (counter.Count < Events) await Task.Delay(1);
        return Workshop.Rate(counter.Count - before, began);
    }

    public async Task<double> BareAsync(Workshop workshop)
    {
        ServerWorkshop.FillBare($"bare_{waiting}", Events + waiting);
        var left = Events;
        var began = Stopwatch.GetTimestamp();
        await Task.WhenAll(Enumerable.Range(0, Workers).Select(_ => Task.Run(WorkAsync)));
        return Workshop.Rate(Events, began);

        async Task WorkAsync()
        {
            await using var connection = ServerWorkshop.Open($"bare_{waiting}");
            const string Next = "SELECT id FROM queue WHERE until IS NULL ORDER BY id LIMIT 100 FOR UPDATE SKIP LOCKED";
            await using var lease = ServerWorkshop.Prepare(
                connection,
                    $"UPDATE queue SET until = now() + interval '30 s', attempts = attempts + 1 WHERE id = ANY (ARRAY "
                    + $"({Next})) RETURNING id, event");
            await using var claim = ServerWorkshop.Prepare(
                connection, $"DELETE FROM queue WHERE id = ANY (ARRAY ({Next})) RETURNING id, event");
            await using var delete = ServerWorkshop.Prepare(
                connection, "DELETE FROM queue WHERE id = ANY ($1)", NpgsqlDbType.Array | NpgsqlDbType.Bigint);
            while (Volatile.Read(ref left) > 0)
            {
                var rows = await ServerWorkshop.ReadAsync(leased ? lease : claim);
                foreach (var row in rows)
                {
                    using var json = JsonDocument.Parse(row.Event);
                    json.RootElement.GetProperty("data").Deserialize<Tap>(JsonSerializerOptions.Web);
                }
                if (leased)
                    await ServerWorkshop.With(delete, (object)rows.Select(r => r.Id).ToArray()).ExecuteNonQueryAsync();
                Interlocked.Add(ref left, -rows.Count);
            }
        }
    }
}
