using System.Diagnostics;
using System.Globalization;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Bench;

/// <summary>
/// What an event costs between its link and its handler and back, whatever the engine: links hand over at once what is
/// asked for, and forget what is settled.
/// </summary>
internal static class HandlingCost
{
    private const int Rounds = 6;

    /// <summary>handling [EVENTS]</summary>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 200_000;
        Console.WriteLine($"{"prefetch",9} {"parallel",9} {"us/event",9} {"bytes",7} {"events an exchange",19}");
        foreach (var (prefetch, parallel) in ((int, int)[])[(50, 1), (1000, 1), (50, 8)])
        {
            for (var round = 1; round <= Rounds; round++)
            {
                var cost = await MeasureAsync(events, prefetch, parallel);
                if (round > Rounds / 2) Console.WriteLine($"{prefetch,9} {parallel,9} {cost}");
            }
        }
        return 0;
    }

    private static async Task<string> MeasureAsync(int events, int prefetch, int parallel)
    {
        await using var workshop = new Workshop();
        var (broker, counter) = (new Memory(events), new Counter());
        var host = workshop.Host(
            courier => courier.AddEngine(new MemoryEngine(broker)).Receive("taps", queue =>
            {
                (queue.Options.Prefetch, queue.Options.Inbox) = (prefetch, false);
                queue.Options.Parallel = parallel;
                queue.Handle<Tap, CountingReceiver>();
            }),
            new() { ["Courier:Broker"] = "memory:it" }, services => services.AddSingleton(counter));
        await host.StartAsync();
        while (counter.Count == 0) await Task.Delay(1);
        var (before, cpu, bytes) = (counter.Count, Environment.CpuUsage.TotalTime, GC.GetTotalAllocatedBytes());
        while (counter.Count < events) await Task.Delay(1);
        var count = events - before;
        var cost = $"{(Environment.CpuUsage.TotalTime - cpu).TotalMicroseconds / count,9:0.0} "
            + $"{(GC.GetTotalAllocatedBytes() - bytes) / count,7:N0} {(double)events / broker.Exchanges,19:0.0}";
        await host.StopAsync();
        return cost;
    }

    private sealed class MemoryEngine(Memory broker) : IEngine
    {
        public string Scheme => "memory";

        public string StoreSchema => "";

        public string BrokerSchema => "";

        public bool HoldsPassword(EngineAddress address) => false;

        public IStorePort CreateStore(EngineAddress address, TimeProvider clock, ILogger? logger) =>
            throw new NotSupportedException();

        public IBroker CreateBroker(EngineAddress address, TimeProvider clock, ILogger? logger) => broker;

        public IBroker CreateCompanion(EngineAddress store, TimeProvider clock, ILogger? logger) =>
            throw new NotSupportedException();
    }

    private sealed class Memory(int events) : IBroker, IReceivingLink
    {
        private readonly byte[][] bodies = [.. Enumerable.Range(0, 1000).Select(i => Workshop.Json(i))];
        private int given;

        public int Exchanges { get; private set; }

        public string DisplayName => "memory";

        public BrokerAbilities Abilities => BrokerAbilities.All;

        public BrokerServices Services { get; } = new();

        public TimeSpan? RenewEvery => null;

        public TimeSpan? RoundTrip => null;

        public Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken) =>
            Task.CompletedTask;

        public Task<IReadOnlyList<PublishResult>> PublishAsync(
            IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) =>
            throw new NotSupportedException();

        public Task<IReceivingLink> OpenLinkAsync(
            string queue, string worker, TimeSpan lease, CancellationToken cancellationToken) =>
            Task.FromResult<IReceivingLink>(this);

        public async Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken)
        {
            if (given == events) await Task.Delay(Timeout.Infinite, cancellationToken);
            return Give(credit);
        }

        public Task<Exchange> SettleAsync(
            IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken)
        {
            Exchanges++;
            return Task.FromResult(new Exchange([.. settlements.Select(_ => true)], Give(credit)));
        }

        public Task ConfirmAsync(CancellationToken cancellationToken) => Task.CompletedTask;

        public Task<IReadOnlyList<bool>> RenewAsync(
            IReadOnlyList<HandOver> deliveries, CancellationToken cancellationToken) =>
            throw new NotSupportedException();

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;

        private List<HandOver> Give(int credit)
        {
            var from = given;
            given = Math.Min(events, from + credit);
            return [.. Enumerable.Range(from, given - from).Select(
                n => new FromMemory(bodies[n % bodies.Length]))];
        }
    }

    private sealed class FromMemory(ReadOnlyMemory<byte> json) : HandOver(json, 1, 0)
    {
    }
}
