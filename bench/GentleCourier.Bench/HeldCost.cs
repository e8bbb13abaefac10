using System.Diagnostics;
using System.Globalization;
using GentleCourier.Bench.Postgres;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Publishing;
using GentleCourier.Sqlite;

namespace GentleCourier.Bench;

/// <summary>
/// What events cost that wait for a route, each with a key of its own: how long it takes to read an outbox beside them,
/// how long until another event has been read and marked, and how fast they leave once there is a route. In front of a
/// broker that costs nothing.
/// </summary>
internal static class HeldCost
{
    private const int BatchSize = 500, Looks = 200;
    private static readonly int[] Sizes = [1, 1_000, 10_000, 100_000, 1_000_000];
    private static readonly TimeSpan Often = TimeSpan.FromSeconds(1);
    private static readonly Dictionary<string, long[]> Routed = new() { ["known"] = [1] },
        AllRouted = new() { ["known"] = [1], ["unknown"] = [2] };

    /// <param name="args">How many are held at the most, by default a million.</param>
    public static async Task<int> RunAsync(string[] args)
    {
        var most = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 1_000_000;
        Console.WriteLine($"{"engine",-12} {"held",10} {"ms to hold 1000",16} {"ms a reading",13} {"ms another",11} "
            + $"{"leave/s",10}");
        foreach (var held in Sizes.Where(n => n <= most))
        {
            await using (var workshop = new Workshop())
            {
                var clock = new SimulatedClock();
                await using var store = new SqliteEngine().CreateStore(new("sqlite", workshop.StoreFile), clock);
                await MeasureAsync("SQLite", store, clock, held);
            }
            await using (var server = new ServerWorkshop())
            {
                var clock = new SimulatedClock();
                if (!EngineAddress.TryParse(ServerWorkshop.AddressOfNew("held"), out var address)) return 1;
                await using var store = new PostgresEngine().CreateStore(address, clock);
                await MeasureAsync("PostgreSQL", store, clock, held);
            }
        }
        return 0;
    }

    private static async Task MeasureAsync(string engine, IStorePort store, SimulatedClock clock, int held)
    {
        await store.PrepareAsync(create: true);
        var term = (await store.LeadAsync("bench", TimeSpan.FromDays(1)))!.Value;
        for (var first = 0; first < held; first += BatchSize)
        {
            await AddAsync(
                store, Math.Min(BatchSize, held - first), i => Event(first + i, "unknown", $"key {first + i}"));
        }

        var began = Stopwatch.GetTimestamp();
        while (await StepAsync(store, term, Routed) > 0)
        {
        }
        var holding = Stopwatch.GetElapsedTime(began).TotalMilliseconds / held * 1_000;
        var reading = await MedianAsync(() => store.ReadOutboxAsync(BatchSize));
        var number = 0;
        var another = await MedianAsync(async () =>
        {
            await AddAsync(store, 1, _ => Event(number++, "known", null));
            await StepAsync(store, term, Routed);
        });

        clock.Advance(Often);
        began = Stopwatch.GetTimestamp();
        var left = 0;
        while (await StepAsync(store, term, AllRouted) is > 0 and var step) left += step;
        var rate = left / Stopwatch.GetElapsedTime(began).TotalSeconds;
        if (left != held) throw new InvalidOperationException($"{left:N0} of {held:N0} have left");
        Console.WriteLine($"{engine,-12} {held,10:N0} {holding,16:N1} {reading,13:N2} {another,11:N2} {rate,10:N0}");
    }

    private static async Task<int> StepAsync(IStorePort store, long term, Dictionary<string, long[]> routes)
    {
        var batch = await store.ReadOutboxAsync(BatchSize);
        if (batch.Rows.Count == 0) return 0;
        var plan = Routing.Deal([.. batch.Rows.Select(r => r.Event)], routes, "here");
        await store.MarkAsync(term, Marking.Of(batch.Rows, plan.Results, _ => Often));
        return batch.Rows.Count;
    }

    private static async Task<double> MedianAsync(Func<Task> look)
    {
        var times = new List<double>();
        for (var i = 0; i < Looks; i++)
        {
            var began = Stopwatch.GetTimestamp();
            await look();
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }
        return times.Order().ElementAt(Looks / 2);
    }

    private static EncodedEvent Event(int number, string type, string? key) =>
        new($"{type} {number}", type, key, Workshop.Json(number));

    private static async Task AddAsync(IStorePort store, int count, Func<int, EncodedEvent> make)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await store.AddAsync(transaction, [.. Enumerable.Range(0, count).Select(make)]);
        await transaction.CommitAsync();
    }
}
