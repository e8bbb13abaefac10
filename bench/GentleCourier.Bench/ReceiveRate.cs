using System.Diagnostics;
using System.Text.Json;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Bench;

/// <summary>
/// Receiving and settling without an inbox, against a loop that leases and deletes batches of the same size. At the end
/// as many events still wait as <paramref name="waiting"/> says.
/// </summary>
internal sealed class ReceiveRate(int waiting) : IBenchmark
{
    public const int Prefetch = 50;

    public string Name => waiting < 1_000_000 ? "receive" : "receive-1m";

    public string What =>
        $"receive, read and settle, prefetch {Prefetch}, no inbox, {waiting:N0} more waiting, against a bare lease and "
        + "delete";

    public int Events => 50_000;

    public async Task<double> OursAsync(Workshop workshop)
    {
        await workshop.BacklogAsync(Events + waiting);
        var counter = new Counter();
        var host = workshop.Host(
            courier => courier.Receive("taps", queue =>
            {
                queue.Options.Prefetch = Prefetch;
                queue.Options.Inbox = false;
                queue.Handle<Tap, CountingReceiver>();
            }),
            services: services => services.AddSingleton(counter));
        var began = Stopwatch.GetTimestamp();
        await host.StartAsync();
        while (counter.Count < Events) await Task.Delay(1);
        return Workshop.Rate(Events, began);
    }

    public Task<double> BareAsync(Workshop workshop)
    {
        workshop.BareBacklog(Events + waiting);
        using var broker = workshop.Open(workshop.BrokerFile);
        using var lease = Workshop.Prepare(
            broker,
            $"UPDATE queue SET due = $1, lease = $2, attempts = attempts + 1 WHERE id IN (SELECT id FROM queue WHERE "
            + $"due <= $3 ORDER BY due LIMIT {Prefetch}) RETURNING id, attempts, event",
            3);
        using var delete = Workshop.Prepare(broker, "DELETE FROM queue WHERE id = $1 AND lease = $2", 2);
        var handled = 0;
        var began = Stopwatch.GetTimestamp();
        while (handled < Events)
        {
            var rows = new List<(long Id, Tap Tap)>();
            Workshop.Execute(broker, "BEGIN IMMEDIATE");
            (lease.Parameters[0].Value, lease.Parameters[1].Value, lease.Parameters[2].Value) = (long.MaxValue, 1L, 1L);
            using (var reader = lease.ExecuteReader())
            {
                while (reader.Read())
                {
                    using var json = JsonDocument.Parse((byte[])reader.GetValue(2));
                    rows.Add((reader.GetInt64(0),
                        json.RootElement.GetProperty("data").Deserialize<Tap>(JsonSerializerOptions.Web)!));
                }
            }
            Workshop.Execute(broker, "COMMIT");
            handled += rows.Count;
            Workshop.Execute(broker, "BEGIN IMMEDIATE");
            foreach (var row in rows) Workshop.Run(delete, row.Id, 1L);
            Workshop.Execute(broker, "COMMIT");
        }
        return Task.FromResult(Workshop.Rate(Events, began));
    }
}

internal sealed class Counter
{
    private int count;

    /// <summary>How long each event takes, in milliseconds.</summary>
    public int Wait { get; init; }

    public int Count => Volatile.Read(ref count);

    public void Add() => Interlocked.Increment(ref count);
}

internal sealed class CountingReceiver(Counter counter) : IReceiver<Tap>
{
    public Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
    {
        counter.Add();
        return counter.Wait == 0 ? Task.CompletedTask : Task.Delay(counter.Wait, cancellationToken);
    }
}
