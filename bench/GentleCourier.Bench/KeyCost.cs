using System.Diagnostics;
using System.Globalization;
using GentleCourier.Bench.Postgres;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Sqlite;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Npgsql;

namespace GentleCourier.Bench;

/// <summary>
/// What a queue in key order costs beside a plain one, by how many copies wait and how many keys they have: how long
/// until a new link has its first event, how long a hand-over takes that finds nothing, and how many a second a worker
/// handles, eight at a time. All queues in turn, round by round, so that what the machine does otherwise meets all of
/// them. On PostgreSQL also beside a snapshot that is held while the first half of all that waited lies there dead.
/// </summary>
internal static class KeyCost
{
    private const int BatchSize = 500, InHand = 8, Rounds = 7;
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(5), Long = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(1);

    /// <param name="args">How many wait, by default a million; and an engine, where only that one is measured.</param>
    public static async Task<int> RunAsync(string[] args)
    {
        var waiting = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 1_000_000;
        var engine = args.Length > 1 ? args[1] : null;
        int[] kinds = [0, waiting / 5, 100, 1];
        Console.WriteLine($"{"engine",-10} {"waiting",9} {"keys",8} {"first ms",9} {"in vain ms",10} {"events/s",9} "
            + $"{"to a plain queue",-20} {"beside dead rows",16} {"to without",-20}");
        await using var workshop = new Workshop();
        await using var server = new ServerWorkshop();
        if (engine is null or "sqlite")
            await MeasureAsync("SQLite", [.. kinds.Select(keys => OnSqlite(workshop, waiting, keys))]);
        if (engine is null or "postgres")
            await MeasureAsync("PostgreSQL", [.. kinds.Select(keys => OnPostgres(server, waiting, keys))]);
        return 0;
    }

    private static Queue OnSqlite(Workshop workshop, int waiting, int keys)
    {
        var name = $"keys-{keys}";
        var file = Path.Combine(Path.GetDirectoryName(workshop.StoreFile)!, $"{name}.db");
        return new Queue(waiting, keys, new SqliteEngine().CreateBroker(new("sqlite", file), TimeProvider.System), null,
            counter => workshop.Host(
                courier => Receive(courier, keys > 0), new() { ["Courier:Broker"] = $"sqlite:{file}" },
                services => services.AddSingleton(counter)));
    }

    private static Queue OnPostgres(ServerWorkshop server, int waiting, int keys)
    {
        var name = ServerWorkshop.Address($"keys{keys}");
        if (!EngineAddress.TryParse(name, out var address)) throw new InvalidOperationException($"no address: {name}");
        return new Queue(waiting, keys, new PostgresEngine().CreateBroker(address, TimeProvider.System), $"keys{keys}",
            counter => server.Host(
                ServerWorkshop.Address("inbox"), name, courier => Receive(courier, keys > 0),
                services: services => services.AddSingleton(counter)));
    }

    private static async Task MeasureAsync(string engine, Queue[] queues)
    {
        foreach (var queue in queues) await queue.FillAsync();
        var before = await RatesAsync(queues);
        double[][]? beside = null;
        if (queues[0].Database is not null)
        {
            var snapshots = queues.Select(queue => queue.KillHalf()).ToList();
            beside = await RatesAsync(queues);
            snapshots.ForEach(snapshot => snapshot.Dispose());
        }
        for (var i = 0; i < queues.Length; i++)
        {
            var (queue, rates) = (queues[i], before[i]);
            var toPlain = i == 0 ? "" : Interval.Of(rates.Zip(before[0], (ours, plain) => ours / plain)).ToString();
            var dead = beside is null ? "" : $"{Interval.Of(beside[i]).Median,16:N0}";
            var toWithout = beside is null ? ""
                : Interval.Of(beside[i].Order().Zip(rates.Order(), (with, without) => with / without)).ToString();
            Console.WriteLine($"{engine,-10} {queue.Waiting,9:N0} {queue.Keys,8:N0} {queue.First,9:N1} "
                + $"{queue.Vain,10:N2} {Interval.Of(rates).Median,9:N0} {toPlain,-20} {dead,16} {toWithout,-20}");
            await queue.Broker.DisposeAsync();
        }
    }

    /// <summary>Of each queue, round by round.</summary>
    private static async Task<double[][]> RatesAsync(Queue[] queues)
    {
        var rates = queues.Select(_ => new double[Rounds]).ToArray();
        // Once for what is compiled and planned.
        foreach (var queue in queues) await RateAsync(queue.Receive);
        for (var round = 0; round < Rounds; round++)
        {
            for (var i = 0; i < queues.Length; i++) rates[i][round] = await RateAsync(queues[i].Receive);
        }
        return rates;
    }

    private static async Task<double> RateAsync(Func<Counter, IHost> receive)
    {
        var counter = new Counter();
        using var host = receive(counter);
        await host.StartAsync();
        var asked = Stopwatch.GetTimestamp();
        while (counter.Count == 0)
        {
            if (Stopwatch.GetElapsedTime(asked) > Patience)
                throw new InvalidOperationException("nothing comes any more: let more wait");
            await Task.Delay(1);
        }
        var (before, began) = (counter.Count, Stopwatch.GetTimestamp());
        await Task.Delay(Long);
        var rate = (counter.Count - before) / Stopwatch.GetElapsedTime(began).TotalSeconds;
        await host.StopAsync();
        return rate;
    }

    private static void Receive(CourierBuilder courier, bool inKeyOrder) => courier.Receive("taps", queue =>
    {
        (queue.Options.Parallel, queue.Options.InKeyOrder) = (InHand, inKeyOrder);
        queue.Handle<Tap, CountingReceiver>();
    });

    /// <summary>One that many wait in.</summary>
    private sealed record Queue(
        int Waiting, int Keys, IBroker Broker, string? Database, Func<Counter, IHost> Receive)
    {
        /// <summary>Milliseconds until a new link had its first event.</summary>
        public double First { get; private set; }

        /// <summary>Milliseconds that a hand-over takes which finds nothing; only of one key.</summary>
        public double Vain { get; private set; }

        public async Task FillAsync()
        {
            await Broker.PrepareAsync(
                new Topology(["taps"], [new Route("bench.tap", "taps")]) { InKeyOrder = Keys > 0 ? ["taps"] : [] },
                create: true);
            for (var first = 0; first < Waiting; first += BatchSize)
            {
                await Broker.PublishAsync([.. Enumerable.Range(first, Math.Min(BatchSize, Waiting - first)).Select(n =>
                    new EncodedEvent($"{n}", "bench.tap", Keys > 0 ? $"key {n % Keys}" : null, Workshop.Json(n)))]);
            }
            await using var link = await Broker.OpenLinkAsync("taps", "bench", Lease);
            var began = Stopwatch.GetTimestamp();
            var held = await link.ReceiveAsync(InHand, default);
            First = Stopwatch.GetElapsedTime(began).TotalMilliseconds;
            if (Keys == 1) Vain = await VainAsync(link);
            await link.SettleAsync([.. held.Select(d => new Settlement(d, Outcome.Released))], 0, default);
            if (Database is null) return;
            // So that none of what was written to fill the queue comes in between.
            using var connection = ServerWorkshop.Open(Database);
            ServerWorkshop.Execute(connection, "VACUUM ANALYZE");
            ServerWorkshop.Execute(connection, "CHECKPOINT");
        }

        /// <summary>What comes first is removed, while a transaction of somebody else goes on reading.</summary>
        public NpgsqlConnection KillHalf()
        {
            var forgotten = ServerWorkshop.Open(Database!);
            ServerWorkshop.Execute(forgotten, "BEGIN ISOLATION LEVEL REPEATABLE READ; SELECT count(*) FROM pg_class");
            using var connection = ServerWorkshop.Open(Database!);
            ServerWorkshop.Execute(connection, $"""
                DELETE FROM courier.copy WHERE id < (
                    SELECT id FROM courier.copy ORDER BY id OFFSET {Waiting / 2} LIMIT 1);
                ANALYZE; CHECKPOINT
                """);
            return forgotten;
        }

        /// <summary>The median of hundred that settle nothing and find nothing.</summary>
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
    }
}
