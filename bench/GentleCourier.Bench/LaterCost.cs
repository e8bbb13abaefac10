using System.Collections.Concurrent;
using System.Diagnostics;
using System.Globalization;
using GentleCourier.Bench.Postgres;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Bench;

/// <summary>
/// What very many events for later cost those of now: publishing, from the first transaction until the outbox is empty,
/// and reading the outbox's figures, with none of them and with all; and how late they are on an idle system.
/// </summary>
internal static class LaterCost
{
    private const int Published = 4_000, Rounds = 5, Reads = 100, Due = 150;

    /// <param name="args">How many events for later, by default a million.</param>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 1_000_000;
        Console.WriteLine(
            $"{"",-34} {"published/s",12} {"figures, ms",12} {"late by, ms: median",20} {"95 %",8} {"max",8}");
        await using (var server = new ServerWorkshop())
        {
            var broker = ServerWorkshop.AddressOfNew("later-broker");
            await (await server.BrokerAsync(broker)).PrepareAsync(Topology, create: true);
            var store = ServerWorkshop.AddressOfNew("later-store");
            await MeasureAsync(
                "PostgreSQL", events, services => server.Host(store, broker, Receive, services: services));
        }
        await using (var workshop = new Workshop())
        {
            await (await workshop.BrokerAsync()).PrepareAsync(Topology, create: true);
            await MeasureAsync("SQLite", events, services => workshop.Host(Receive, services: services));
        }
        return 0;
    }

    private static Topology Topology => new(["taps"], [new Route("bench.tap", "taps")]);

    private static void Receive(CourierBuilder courier) => courier.Receive("taps", queue =>
    {
        queue.Options.Inbox = false;
        queue.Handle<Tap, LateReceiver>();
    });

    private static async Task MeasureAsync(
        string engine, int events, Func<Action<IServiceCollection>, IHost> build)
    {
        var late = new Lateness();
        var host = build(services => services.AddSingleton(late));
        await host.StartAsync();
        await PrintAsync($"{engine}, none for later");
        var began = Stopwatch.GetTimestamp();
        foreach (var chunk in Enumerable.Range(0, events).Chunk(5_000))
            await AddAsync(host, chunk.Select(i => EventDraft.Of(
                Workshop.Tap(i),
                new() { Due = GentleCourier.DueTime.In(TimeSpan.FromDays(1) + TimeSpan.FromSeconds(i)) })));
        Console.WriteLine($"({events:N0} are added for later, {Workshop.Rate(events, began):N0}/s)");
        await PrintAsync($"{engine}, {events:N0} for later");
        await host.StopAsync();

        async Task PrintAsync(string what)
        {
            var rates = new List<double>();
            for (var round = -1; round < Rounds; round++)
            {
                late.Times.Clear();
                var start = Stopwatch.GetTimestamp();
                for (var i = 0; i < Published; i++) await AddAsync(host, [EventDraft.Of(Workshop.Tap(i))]);
                while (late.Times.Count < Published) await Task.Delay(1);
                if (round >= 0) rates.Add(Workshop.Rate(Published, start));
            }
            var store = host.Services.GetRequiredService<IStorePort>();
            var reads = new List<double>();
            for (var i = 0; i < Reads; i++)
            {
                var start = Stopwatch.GetTimestamp();
                await store.ReadOutboxFiguresAsync();
                reads.Add(Stopwatch.GetElapsedTime(start).TotalMilliseconds);
            }
            late.Times.Clear();
            for (var i = 1; i <= Due; i++)
            {
                await AddAsync(host, [EventDraft.Of(
                    Workshop.Tap(i), new() { Due = GentleCourier.DueTime.In(TimeSpan.FromMilliseconds(150)) })]);
                while (late.Times.Count < i) await Task.Delay(1);
            }
            var times = late.Times.Order().ToList();
            Console.WriteLine($"{what,-34} {Median(rates),12:N0} {Median(reads),12:0.00} {Median(times),20:0.0} "
                + $"{times[(int)(times.Count * 0.95)],8:0.0} {times[^1],8:0.0}");
        }
    }

    private static async Task AddAsync(IHost host, IEnumerable<EventDraft> drafts)
    {
        await using var connection = await host.Services.GetRequiredService<IStore>().OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await host.Services.GetRequiredService<IOutbox>().AddManyAndCommitAsync(transaction, drafts);
    }

    private static double Median(IEnumerable<double> values) => values.Order().ElementAt(values.Count() / 2);

    private sealed class Lateness
    {
        /// <summary>How long after its time each event was handled, in milliseconds.</summary>
        public ConcurrentBag<double> Times { get; } = [];
    }

    private sealed class LateReceiver(Lateness late) : IReceiver<Tap>
    {
        public Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
        {
            late.Times.Add((DateTimeOffset.UtcNow - delivery.Event.Time!.Value).TotalMilliseconds);
            return Task.CompletedTask;
        }
    }
}
