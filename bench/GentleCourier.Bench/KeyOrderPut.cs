using System.Diagnostics;
using System.Globalization;
using GentleCourier.Bench.Postgres;
using GentleCourier.Engines;
using GentleCourier.Postgres;

namespace GentleCourier.Bench;

/// <summary>
/// A queue in which many wait is put in key order while a thousand events a second are published to it: how long a
/// publish takes then, and beside that how long it takes while nothing else happens.
/// </summary>
internal static class KeyOrderPut
{
    private const int BatchSize = 500, Rate = 1_000, Publishers = 8;
    private static readonly TimeSpan Long = TimeSpan.FromSeconds(10);

    /// <param name="args">How many wait; by default 400,000.</param>
    public static async Task<int> RunAsync(string[] args)
    {
        var waiting = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 400_000;
        Console.WriteLine(
            $"{"engine",-12} {"",-14} {"median ms",10} {"99 %",8} {"99.9 %",8} {"longest",8} {"put ms",8}");
        await using (var workshop = new Workshop())
        {
            await MeasureAsync("SQLite", await workshop.BrokerAsync(), waiting);
        }
        if (!EngineAddress.TryParse(ServerWorkshop.AddressOfNew("keys"), out var address)) return 1;
        await using var broker = new PostgresEngine().CreateBroker(address, TimeProvider.System);
        await MeasureAsync("PostgreSQL", broker, waiting);
        return 0;
    }

    private static async Task MeasureAsync(string engine, IBroker broker, int waiting)
    {
        await broker.PrepareAsync(Of(inKeyOrder: false), create: true);
        for (var first = 0; first < waiting; first += BatchSize)
            await broker.PublishAsync([.. Enumerable.Range(first, BatchSize).Select(Event)]);
        await PublishAsync(broker, () => Task.CompletedTask);
        foreach (var puts in new[] { false, true })
        {
            var took = TimeSpan.Zero;
            var times = await PublishAsync(broker, async () =>
            {
                await Task.Delay(Long / 4);
                var began = Stopwatch.GetTimestamp();
                if (puts) await broker.PrepareAsync(Of(inKeyOrder: true), create: true);
                took = Stopwatch.GetElapsedTime(began);
                await using var link = await broker.OpenLinkAsync("taps", "bench", Long);
                while (Stopwatch.GetElapsedTime(began) < Long / 2)
                {
                    var held = await link.ReceiveAsync(8, default);
                    await link.SettleAsync([.. held.Select(d => new Settlement(d, Outcome.Accepted))], 0, default);
                }
            });
            times.Sort();
            Console.WriteLine($"{engine,-12} {(puts ? "put in order" : "nothing else"),-14} {At(times, 0.5),10:N2} "
                + $"{At(times, 0.99),8:N2} {At(times, 0.999),8:N2} {times[^1],8:N2} {took.TotalMilliseconds,8:N1}");
        }
    }

    /// <summary>Publishes for a while beside something else; how long each took, in milliseconds.</summary>
    private static async Task<List<double>> PublishAsync(IBroker broker, Func<Task> beside)
    {
        var times = new List<double>();
        var began = Stopwatch.GetTimestamp();
        var publishing = Enumerable.Range(0, Publishers).Select(n => Task.Run(() => PublishOneByOneAsync(n))).ToList();
        await beside();
        await Task.WhenAll(publishing);
        return times;

        async Task PublishOneByOneAsync(int publisher)
        {
            for (var n = publisher; Stopwatch.GetElapsedTime(began) < Long; n += Publishers)
            {
                var due = TimeSpan.FromSeconds((double)n / Rate) - Stopwatch.GetElapsedTime(began);
                if (due > TimeSpan.FromMilliseconds(1)) await Task.Delay(due);
                var asked = Stopwatch.GetTimestamp();
                await broker.PublishAsync([Event(n)]);
                lock (times) times.Add(Stopwatch.GetElapsedTime(asked).TotalMilliseconds);
            }
        }
    }

    private static double At(List<double> sorted, double share) => sorted[(int)(share * (sorted.Count - 1))];

    private static Topology Of(bool inKeyOrder) =>
        new(["taps"], [new Route("bench.tap", "taps")]) { InKeyOrder = inKeyOrder ? ["taps"] : [] };

    private static EncodedEvent Event(int n) => new($"{n}", "bench.tap", $"key {n % 50_000}", Workshop.Json(n));
}
