using System.Diagnostics;
using System.Globalization;
using GentleCourier.Bench.Postgres;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Sqlite;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Bench;

/// <summary>
/// What a queue in key order costs beside a plain one, by how many copies wait and how many keys they have: how long
/// until a new link has its first event, how long a hand-over takes that finds nothing, and how many a second a worker
/// handles, eight at a time. The last on PostgreSQL also beside a snapshot that is held while all that was handled
/// before lies there dead.
/// </summary>
internal static class KeyCost
{
    private const int BatchSize = 500, InHand = 8;
    private static readonly int[] Sizes = [1_000, 100_000, 1_000_000];
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(5), Long = TimeSpan.FromSeconds(3);

    /// <param name="args">
    /// How many wait at the most, by default a million; an engine, where only that one is measured, with as many; and
    /// how many keys, 0 for a plain queue, where only that is.
    /// </param>
    public static async Task<int> RunAsync(string[] args)
    {
        var most = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 1_000_000;
        var engine = args.Length > 1 ? args[1] : null;
        int[]? given = args.Length > 2 ? [int.Parse(args[2], CultureInfo.InvariantCulture)] : null;
        Console.WriteLine($"{"engine",-12} {"waiting",10} {"keys",10} {"first ms",10} {"in vain ms",11} "
            + $"{"events/s",10} {"beside dead rows",17}");
        foreach (var waiting in engine is null ? Sizes.Where(n => n <= most) : [most])
        {
            foreach (var keys in given ?? [0, waiting / 5, 100, 1])
            {
                var inKeyOrder = keys > 0;
                if (engine is null or "sqlite")
                {
                    await using var workshop = new Workshop();
                    await MeasureAsync(
                        "SQLite", await workshop.BrokerAsync(), waiting, keys, null, counter => workshop.Host(
                            courier => Receive(courier, inKeyOrder),
                            services: services => services.AddSingleton(counter)));
                }
                if (engine == "sqlite") continue;
                await using var server = new ServerWorkshop();
                if (!EngineAddress.TryParse(ServerWorkshop.AddressOfNew("keys"), out var address)) return 1;
                await using var broker = new PostgresEngine().CreateBroker(address, TimeProvider.System);
                await using var store = new PostgresEngine().CreateStore(address, TimeProvider.System);
                await MeasureAsync("PostgreSQL", broker, waiting, keys, store, counter => server.Host(
                    ServerWorkshop.Address("inbox"), ServerWorkshop.Address("keys"),
                    courier => Receive(courier, inKeyOrder),
                    services: services => services.AddSingleton(counter)));
            }
        }
        return 0;
    }

    private static async Task MeasureAsync(
        string engine, IBroker broker, int waiting, int keys, IStorePort? beside, Func<Counter, IHost> receive)
    {
        await broker.PrepareAsync(
            new Topology(["taps"], [new Route("bench.tap", "taps")]) { InKeyOrder = keys > 0 ? ["taps"] : [] },
            create: true);
        for (var first = 0; first < waiting; first += BatchSize)
        {
            await broker.PublishAsync([.. Enumerable.Range(first, Math.Min(BatchSize, waiting - first)).Select(n =>
                new EncodedEvent($"{n}", "bench.tap", keys > 0 ? $"key {n % keys}" : null, Workshop.Json(n)))]);
        }

        double firstAt, vain;
        await using (var link = await broker.OpenLinkAsync("taps", "bench", Lease))
        {
            var began = Stopwatch.GetTimestamp();
            var held = await link.ReceiveAsync(InHand, default);
            firstAt = Stopwatch.GetElapsedTime(began).TotalMilliseconds;
            vain = keys == 1 ? await VainAsync(link) : 0;
            await link.SettleAsync([.. held.Select(d => new Settlement(d, Outcome.Released))], 0, default);
        }
        if (beside is not null) await CheckpointAsync(beside);
        await RateAsync(receive);
        var rate = await RateAsync(receive);
        var dead = beside is null || waiting < 100_000 ? 0 : await BesideSnapshotAsync(beside, waiting, receive);
        Console.WriteLine($"{engine,-12} {waiting,10:N0} {keys,10:N0} {firstAt,10:N1} {vain,11:N2} "
            + $"{rate,10:N0} {dead,17:N0}");
    }

    /// <summary>Milliseconds, the median of hundred that settle nothing and find nothing.</summary>
    private static async Task<double> VainAsync(IReceivingLink link)
    {
        var times = new List<double>();
        for (var i = 0; i < 100; i++)
        {
            var began = Stopwatch.GetTimestamp();
            if ((await link.SettleAsync([], InHand, default)).Deliveries.Count > 0)
                throw new InvalidOperationException("two of one key are in hand");
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }
        return times.Order().ElementAt(50);
    }

    private static async Task<double> RateAsync(Func<Counter, IHost> receive)
    {
        var counter = new Counter();
        using var host = receive(counter);
        await host.StartAsync();
        while (counter.Count == 0) await Task.Delay(1);
        var (before, began) = (counter.Count, Stopwatch.GetTimestamp());
        await Task.Delay(Long);
        var rate = (counter.Count - before) / Stopwatch.GetElapsedTime(began).TotalSeconds;
        await host.StopAsync();
        return rate;
    }

    /// <summary>So that none of what was written to fill the queue comes in between.</summary>
    private static async Task CheckpointAsync(IStorePort store)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var command = connection.CreateCommand();
        (command.CommandText, command.CommandTimeout) = ("CHECKPOINT", 600);
        await command.ExecuteNonQueryAsync();
    }

    /// <summary>With what is handled in twenty times as long lying there, while another's transaction reads.</summary>
    private static async Task<double> BesideSnapshotAsync(
        IStorePort store, int waiting, Func<Counter, IHost> receive)
    {
        await using var forgotten = await store.OpenConnectionAsync();
        await using var snapshot = await forgotten.BeginTransactionAsync(System.Data.IsolationLevel.RepeatableRead);
        await using (var command = forgotten.CreateCommand())
        {
            (command.CommandText, command.Transaction) = ("SELECT count(*) FROM pg_class", snapshot);
            await command.ExecuteScalarAsync();
        }
        for (var i = 0; i < (waiting < 1_000_000 ? 5 : 20); i++) await RateAsync(receive);
        return await RateAsync(receive);
    }

    private static void Receive(CourierBuilder courier, bool inKeyOrder) => courier.Receive("taps", queue =>
    {
        (queue.Options.Parallel, queue.Options.InKeyOrder) = (InHand, inKeyOrder);
        queue.Handle<Tap, CountingReceiver>();
    });
}
