using System.Collections.Concurrent;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>Queues in key order: the events of one partition key one at a time, whoever takes them.</summary>
public abstract class KeyOrderScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly TimeSpan Lease = TimeSpan.FromSeconds(30);

    private static Task PrepareAsync(IBroker broker) => broker.PrepareAsync(
        new Topology(["taps"], [new Route("test.tap", "taps")]) { InKeyOrder = ["taps"] }, create: true);

    private static async Task<List<int>> ReceiveAsync(IReceivingLink link, List<HandOver> held, int credit = 10)
    {
        var taken = await link.ReceiveAsync(credit, CancellationToken.None).WaitAsync(Crossing.Limit);
        held.AddRange(taken);
        return [.. taken.Select(d => Crossing.NumberOf(d.Json))];
    }

    private static async Task SettleAsync(IReceivingLink link, List<HandOver> held, int number, Outcome outcome)
    {
        var delivery = held.Single(d => Crossing.NumberOf(d.Json) == number);
        held.Remove(delivery);
        Assert.Equal([true], await link.SettledAsync([new(delivery, outcome)]));
    }

    [Fact]
    public async Task The_next_of_a_key_comes_when_the_one_before_it_is_settled_whatever_becomes_of_that()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var broker = crossing.AnotherBroker(clock);
        await PrepareAsync(broker);
        await broker.PublishAsync(
            [Crossing.TapEvent(1, "a"), Crossing.TapEvent(2, "a"), Crossing.TapEvent(3, "a"), Crossing.TapEvent(4, "b"),
            Crossing.TapEvent(5), Crossing.TapEvent(6)]);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        await using var other = await crossing.AnotherBroker(clock).OpenLinkAsync("taps", "v", Lease);
        var held = new List<HandOver>();
        Assert.Equal([1, 4, 5, 6], (await ReceiveAsync(link, held)).Order());

        // Given back, it is the next again.
        await SettleAsync(link, held, 1, Outcome.Released);
        Assert.Equal([1], await ReceiveAsync(link, held));
        // Accepted: another worker, which waits, gets the next.
        var waiting = other.ReceiveAsync(10, CancellationToken.None);
        await SettleAsync(link, held, 1, Outcome.Accepted);
        var second = await waiting.WaitAsync(Crossing.Limit);
        Assert.Equal((2, 1), (Crossing.NumberOf(Assert.Single(second).Json), second[0].Attempt));

        // Failed: it comes again after its delay, and nothing behind it before.
        await other.SettledAsync([new(second[0], new Outcome.Modified(TimeSpan.FromMinutes(1), "the tide"))]);
        waiting = other.ReceiveAsync(10, CancellationToken.None);
        await broker.PublishAsync([Crossing.TapEvent(7, "c")]);
        Assert.Equal(7, Crossing.NumberOf(Assert.Single(await waiting.WaitAsync(Crossing.Limit)).Json));
        waiting = other.ReceiveAsync(10, CancellationToken.None);
        clock.Advance(TimeSpan.FromMinutes(1));
        Assert.True((await link.RenewAsync(held, CancellationToken.None)).Count > 0);
        var again = await waiting.WaitAsync(Crossing.Limit);
        Assert.Contains(again, d => (Crossing.NumberOf(d.Json), d.Attempt) == (2, 2));
        Assert.DoesNotContain(again, d => Crossing.NumberOf(d.Json) == 3);

        // Set aside: those behind it go on.
        await other.SettledAsync(
            [new(again.Single(d => Crossing.NumberOf(d.Json) == 2), new Outcome.Rejected("no such pier", null))]);
        var third = await other.ReceiveAsync(10, CancellationToken.None).WaitAsync(Crossing.Limit);
        Assert.Equal(3, Crossing.NumberOf(Assert.Single(third).Json));
    }

    [Fact]
    public async Task A_lease_that_ran_out_brings_the_same_event_again_and_not_the_next()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var broker = crossing.AnotherBroker(clock);
        await PrepareAsync(broker);
        await broker.PublishAsync([Crossing.TapEvent(1, "a"), Crossing.TapEvent(2, "a")]);
        await using (var dead = await broker.OpenLinkAsync("taps", "dead", Lease))
            Assert.Single(await dead.ReceiveAsync(10, CancellationToken.None));
        await using var link = await broker.OpenLinkAsync("taps", "alive", Lease);
        var waiting = link.ReceiveAsync(10, CancellationToken.None);
        clock.Advance(Lease);
        var taken = Assert.Single(await waiting.WaitAsync(Crossing.Limit));
        Assert.Equal((1, 2, 1), (Crossing.NumberOf(taken.Json), taken.Attempt, taken.Abandoned));
    }

    [Fact]
    public async Task However_many_wait_behind_one_key_the_others_go_on()
    {
        await using var crossing = new Crossing(new TPlace());
        var broker = crossing.Broker();
        await PrepareAsync(broker);
        for (var i = 0; i < 10; i++)
            await broker.PublishAsync([.. Enumerable.Range(i * 500, 500).Select(n => Crossing.TapEvent(n, "busy"))]);
        await broker.PublishAsync([.. Enumerable.Range(5000, 300).Select(n => Crossing.TapEvent(n, $"{n}"))]);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        var held = new List<HandOver>();
        while (held.Count < 301) await ReceiveAsync(link, held, credit: 50);
        Assert.Equal([0, .. Enumerable.Range(5000, 300)], held.Select(d => Crossing.NumberOf(d.Json)).Order());
        await SettleAsync(link, held, 0, Outcome.Accepted);
        Assert.Equal([1], await ReceiveAsync(link, held));
    }

    [Fact]
    public async Task Several_workers_handle_each_key_one_at_a_time_and_in_order_whatever_fails()
    {
        await using var crossing = new Crossing(new TPlace());
        const int Keys = 7, Count = 210;
        var running = new ConcurrentDictionary<int, bool>();
        var handled = Enumerable.Range(0, Keys).ToDictionary(k => k, _ => new ConcurrentQueue<int>());
        var overlaps = 0;
        var log = new Log
        {
            OnTap = async (delivery, _) =>
            {
                var (number, key) = (delivery.Data.Number, delivery.Data.Number % Keys);
                if (!running.TryAdd(key, true)) Interlocked.Increment(ref overlaps);
                await Task.Yield();
                running.TryRemove(key, out var _);
                if (number % 10 == 3 && delivery.Attempt < 3) throw new TimeoutException("the tide");
                handled[key].Enqueue(number);
            },
        };
        for (var worker = 0; worker < 3; worker++)
        {
            await crossing.StartAsync(
                "fares",
                courier => courier.Receive("taps", queue =>
                {
                    (queue.Options.InKeyOrder, queue.Options.Parallel, queue.Options.Prefetch) = (true, 3, 6);
                    queue.Options.FirstDelay = TimeSpan.FromMilliseconds(1);
                    queue.Options.MaxDelay = TimeSpan.FromMilliseconds(10);
                    queue.Handle<Tap, TapReceiver>();
                }),
                services: services => services.AddSingleton(log));
        }
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(
            [.. Enumerable.Range(0, Count).Select(
                n => EventDraft.Of(new Tap(n), new() { PartitionKey = $"card-{n % Keys}" }))]);
        await crossing.SettledAsync();
        Assert.Equal(0, overlaps);
        foreach (var (key, numbers) in handled)
            Assert.Equal(Enumerable.Range(0, Count).Where(n => n % Keys == key), numbers);
    }

    [Fact]
    public async Task A_queue_can_be_put_in_key_order_while_it_is_in_use()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var broker = crossing.Broker();
        await broker.PublishAsync([Crossing.TapEvent(1, "a"), Crossing.TapEvent(2, "a"), Crossing.TapEvent(3)]);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        var held = new List<HandOver>();
        Assert.Equal([1], await ReceiveAsync(link, held, credit: 1));

        var error = await Assert.ThrowsAsync<CourierException>(() => crossing.AnotherBroker().PrepareAsync(
            new Topology(["taps"], []) { InKeyOrder = ["taps"] }, create: false));
        Assert.Contains("queue 'taps' of", error.Message, StringComparison.Ordinal);
        Assert.Contains("--in-key-order taps", error.Message, StringComparison.Ordinal);
        await PrepareAsync(crossing.AnotherBroker());
        Assert.Equal(["taps"], (await crossing.Reports.ReadTopologyAsync()).InKeyOrder);

        // What was there has no order; what comes now has, and all of it comes.
        await broker.PublishAsync([Crossing.TapEvent(4, "a"), Crossing.TapEvent(5, "a")]);
        while (held.Count < 4) await ReceiveAsync(link, held);
        Assert.Equal([1, 2, 3, 4], held.Select(d => Crossing.NumberOf(d.Json)).Order());
        await SettleAsync(link, held, 1, new Outcome.Modified(TimeSpan.Zero, "e"));
        await SettleAsync(link, held, 4, Outcome.Accepted);
        while (held.Count < 4) await ReceiveAsync(link, held);
        Assert.Equal([1, 2, 3, 5], held.Select(d => Crossing.NumberOf(d.Json)).Order());
    }
}
