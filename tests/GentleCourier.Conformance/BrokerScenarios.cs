using GentleCourier.ByHand;
using GentleCourier.Engines;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

public abstract class BrokerScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly TimeSpan Lease = TimeSpan.FromSeconds(30);

    /// <summary>Page by page, each once, whatever state it is in; and it stays as it is.</summary>
    [Fact]
    public async Task A_queue_is_looked_through_in_pages_and_nothing_in_it_changes()
    {
        const int Count = 1300;
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var broker = crossing.Broker();
        await broker.PublishAsync([.. Enumerable.Range(0, Count).Select(i => Crossing.TapEvent(i))]);
        await using var link = await broker.OpenLinkAsync("taps", "pier/7", TimeSpan.FromMinutes(5));
        var taken = await link.ReceiveAsync(40, CancellationToken.None);
        await link.SettledAsync(
            [.. taken.Take(30).Select(t => new Settlement(t, new Outcome.Modified(TimeSpan.FromHours(1), "not yet")))]);

        for (var round = 0; round < 2; round++)
        {
            var seen = new List<QueuedEvent>();
            while (await broker.Reports!.LookAsync("taps", 70, seen.LastOrDefault()?.Place, default)
                is { Events: { Count: > 0 } page })
                seen.AddRange(page);
            Assert.Equal(Enumerable.Range(0, Count), seen.Select(e => Crossing.NumberOf(e.Json)).Order());
            var states = seen.ToLookup(e => e.State);
            Assert.Equal((Count - 40, 10, 30), (states[QueuedState.Ready].Count(), states[QueuedState.InHand].Count(),
                states[QueuedState.Scheduled].Count()));
            Assert.All(states[QueuedState.InHand], e => Assert.Equal(("pier/7", 1), (e.Worker, e.Attempts)));
            Assert.All(states[QueuedState.Scheduled], e => Assert.Equal((null, "not yet"), (e.Worker, e.LastError)));
            Assert.All(states[QueuedState.Ready], e => Assert.Equal((null, 0), (e.Worker, e.Attempts)));
        }
        Assert.Equal(Count, await new Queues(broker).ReadAllAsync("taps").CountAsync());
        await Assert.ThrowsAsync<ArgumentException>(() => broker.Reports!.LookAsync("taps", 9, "somewhere", default));
    }

    /// <summary>Nobody could have handled it then: patience with it is not used up.</summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Time_in_a_pause_does_not_count_as_time_in_which_an_event_was_tried(bool inKeyOrder)
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var broker = crossing.AnotherBroker(clock);
        await broker.PrepareAsync(
            new Topology(["taps"], [new("test.tap", "taps")]) { InKeyOrder = inKeyOrder ? ["taps"] : [] },
            create: true);
        await using var link = await broker.OpenLinkAsync("taps", "w", TimeSpan.FromHours(1));
        await broker.PublishAsync([Crossing.TapEvent(1, "a")]);
        var (orders, note) = (broker.Services.Instructions!, new HandNote("ada", null));
        var second = TimeSpan.FromSeconds(1);
        await TakeAsync(triedFor: null);
        clock.Advance(10 * second);
        await orders.PauseAsync("taps", null, note);
        clock.Advance(TimeSpan.FromHours(5));
        await orders.ResumeAsync("taps");
        clock.Advance(5 * second);
        await TakeAsync(15 * second);

        // One that nobody ends, and another that takes its place.
        await orders.PauseAsync("taps", TimeSpan.FromMinutes(30), note);
        clock.Advance(TimeSpan.FromMinutes(20));
        await orders.PauseAsync("taps", TimeSpan.FromMinutes(30), note);
        clock.Advance(TimeSpan.FromMinutes(31));
        await TakeAsync(TimeSpan.FromMinutes(1) + (15 * second));

        async Task TakeAsync(TimeSpan? triedFor)
        {
            var delivery = Assert.Single(await link.ReceiveAsync(9, CancellationToken.None).WaitAsync(Crossing.Limit));
            Assert.Equal(triedFor is null, delivery.TriedFor is null);
            if (triedFor is { } expected)
                Assert.InRange(delivery.TriedFor!.Value, expected - second, expected + second);
            await link.SettledAsync([new(delivery, new Outcome.Modified(TimeSpan.Zero, "no"))]);
        }
    }

    /// <summary>Not to one that waits, not along with a settlement, and not to one that comes then.</summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Of_a_paused_queue_nothing_is_handed_over(bool inKeyOrder)
    {
        await using var crossing = new Crossing(new TPlace());
        var broker = crossing.Broker();
        await broker.PrepareAsync(
            new Topology(["taps", "other"], [new("test.tap", "taps"), new("test.charged", "other")])
            {
                InKeyOrder = inKeyOrder ? ["taps"] : [],
            },
            create: true);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        await broker.PublishAsync([.. Enumerable.Range(0, 300).Select(i => Crossing.TapEvent(i, $"{i % 50}"))]);
        var taken = await link.ReceiveAsync(10, CancellationToken.None);
        await broker.Services.Instructions!.PauseAsync("taps", null, new HandNote("ada", null));
        var (_, along) = await link.SettleAsync(
            [.. taken.Take(5).Select(t => new Settlement(t, Outcome.Accepted))], 10, CancellationToken.None);
        Assert.Empty(along);
        var waiting = link.ReceiveAsync(10, CancellationToken.None);
        await using var late = await crossing.AnotherBroker().OpenLinkAsync("taps", "l", Lease);
        var lateWaiting = late.ReceiveAsync(10, CancellationToken.None);
        await link.SettledAsync([.. taken.Skip(5).Select(t => new Settlement(t, Outcome.Released))]);
        await broker.PublishAsync([Crossing.TapEvent(300, "50"), Crossing.ChargedEvent(1)]);
        // What goes to others goes on.
        await using var other = await broker.OpenLinkAsync("other", "o", Lease);
        Assert.Single(await other.ReceiveAsync(10, CancellationToken.None).WaitAsync(Crossing.Limit));
        Assert.False(waiting.IsCompleted || lateWaiting.IsCompleted);
        Assert.Equal((296, 0), await crossing.FiguresAsync("taps") is var f ? (f.Ready, f.InHand) : default);

        await crossing.AnotherBroker().Services.Instructions!.ResumeAsync("taps");
        var seen = new List<int>();
        foreach (var (by, task) in new[] { (link, waiting), (late, lateWaiting) })
        {
            var come = await task.WaitAsync(Crossing.Limit);
            Assert.All(come, t => Assert.Equal(1, t.Attempt));
            seen.AddRange(come.Select(t => Crossing.NumberOf(t.Json)));
            await by.SettledAsync([.. come.Select(t => new Settlement(t, Outcome.Accepted))]);
        }
        while (seen.Count < 296)
        {
            var come = await link.ReceiveAsync(100, CancellationToken.None).WaitAsync(Crossing.Limit);
            seen.AddRange(come.Select(t => Crossing.NumberOf(t.Json)));
            await link.SettledAsync([.. come.Select(t => new Settlement(t, Outcome.Accepted))]);
        }
        Assert.Equal(
            Enumerable.Range(0, 301).Except(taken.Take(5).Select(t => Crossing.NumberOf(t.Json))), seen.Order());
    }

    [Fact]
    public async Task Each_routed_queue_gets_its_own_copy()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "fares"), ("test.tap", "deck-count"), ("test.charged", "notices"));
        var broker = crossing.Broker();
        Assert.All(await broker.PublishAsync([Crossing.TapEvent(1), Crossing.TapEvent(2)]),
            r => Assert.Equal(PublishFate.Taken, r.Fate));

        var fares = await broker.OpenLinkAsync("fares", "w", Lease);
        var taken = await fares.ReceiveAsync(10, CancellationToken.None);
        await fares.SettledAsync([.. taken.Select(d => new Settlement(d, Outcome.Accepted))]);
        await fares.DisposeAsync();

        var figures = (await broker.Reports!.ReadFiguresAsync()).Queues;
        Assert.Equal([("deck-count", 2), ("fares", 0), ("notices", 0)], figures.Select(f => (f.Queue, (int)f.Ready!)));
    }

    /// <summary>The event comes later, behind others, and is known to have been tried.</summary>
    [Fact]
    public async Task What_failed_without_counting_comes_behind_others_as_the_same_attempt()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var broker = crossing.AnotherBroker(clock);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        await broker.PublishAsync([Crossing.TapEvent(1), Crossing.TapEvent(2)]);
        var first = Assert.Single(await link.ReceiveAsync(1, CancellationToken.None));
        Assert.Null(first.TriedFor);
        var away = new Outcome.Modified(TimeSpan.FromSeconds(10), "away") { Counts = false };
        await link.SettledAsync([new(first, away)]);
        clock.Advance(TimeSpan.FromSeconds(20));

        var taken = await link.ReceiveAsync(2, CancellationToken.None);
        Assert.Equal([(2, 1, null), (1, 1, TimeSpan.FromSeconds(20))],
            taken.Select(d => (Crossing.NumberOf(d.Json), d.Attempt!.Value, d.TriedFor)));
        // Given back untouched, it has still been tried.
        await link.SettledAsync([new(taken[0], Outcome.Released), new(taken[1], Outcome.Released)]);
        clock.Advance(TimeSpan.FromSeconds(20));
        taken = await link.ReceiveAsync(2, CancellationToken.None);
        Assert.Equal([(1, 1, TimeSpan.FromSeconds(40)), (2, 1, null)],
            taken.Select(d => (Crossing.NumberOf(d.Json), d.Attempt!.Value, d.TriedFor)).Order());
    }

    [Fact]
    public async Task Each_outcome_does_what_its_name_says()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var broker = crossing.AnotherBroker(clock);
        await broker.PublishAsync(
            [Crossing.TapEvent(1), Crossing.TapEvent(2), Crossing.TapEvent(3), Crossing.TapEvent(4)]);
        await using var link = await broker.OpenLinkAsync("taps", "pier/7", Lease);
        var taken = await link.ReceiveAsync(4, CancellationToken.None);
        Assert.Equal([1, 2, 3, 4], taken.Select(d => Crossing.NumberOf(d.Json)));
        Assert.All(taken, d => Assert.Equal(1, d.Attempt));

        clock.Advance(TimeSpan.FromSeconds(2));
        Assert.All(
            await link.SettledAsync(
            [
                new(taken[0], Outcome.Accepted),
                new(taken[1], Outcome.Released),
                new(taken[2], new Outcome.Modified(TimeSpan.FromMinutes(1), "the printer is on fire")),
                new(taken[3], new Outcome.Rejected("no such pier", new Failure("T", "M", "S"))),
            ]),
            Assert.True);

        var figures = (await broker.Reports!.ReadFiguresAsync()).Queues[0];
        Assert.Equal((1, 0, 1, 1),
            ((int)figures.Ready!, (int)figures.InHand!, (int)figures.Scheduled!, (int)figures.DeadLetters!));
        Assert.Equal(TimeSpan.FromSeconds(2), figures.OldestAge);
        var waiting = await broker.Reports!.PeekAsync("taps", 10);
        Assert.Equal([(2, 0, QueuedState.Ready), (3, 1, QueuedState.Scheduled)],
            waiting.Select(e => (Crossing.NumberOf(e.Json), e.Attempts, e.State)));
        Assert.Equal("the printer is on fire", waiting[1].LastError);

        var letter = Assert.Single(await broker.DeadLetters!.ReadAsync("taps", 10));
        Assert.Equal(("taps", "no such pier", 1, "pier/7"),
            (letter.Queue, letter.Reason, letter.Attempts, letter.Worker));
        Assert.Equivalent(new Failure("T", "M", "S"), letter.Failure);
        Assert.Equal(letter.FirstAttempt + TimeSpan.FromSeconds(2), letter.SetAside);
        Assert.Equal(4, Crossing.NumberOf(letter.Json));
        Assert.Equal(letter.Id, (await broker.DeadLetters!.FindAsync(letter.Id))!.Id);
        Assert.Null(await broker.DeadLetters!.FindAsync(letter.Id + "1"));
        Assert.Null(await broker.DeadLetters!.FindAsync("the seventh"));

        // The released one comes as if it had never been handed over, the modified one after its delay.
        var again = await link.ReceiveAsync(10, CancellationToken.None);
        Assert.Equal((2, 1), (Crossing.NumberOf(Assert.Single(again).Json), again[0].Attempt));
        await link.SettledAsync([new(again[0], Outcome.Accepted)]);
        var later = link.ReceiveAsync(10, CancellationToken.None);
        clock.Advance(TimeSpan.FromMinutes(1));
        var retried = Assert.Single(await later.WaitAsync(Crossing.Limit));
        Assert.Equal((3, 2), (Crossing.NumberOf(retried.Json), retried.Attempt));
    }

    [Fact]
    public async Task A_lost_lease_cannot_settle_what_another_holds()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider();
        var broker = crossing.AnotherBroker(clock);
        await broker.PublishAsync([Crossing.TapEvent(1), Crossing.TapEvent(2)]);
        await using var first = await broker.OpenLinkAsync("taps", "first", Lease);
        var held = await first.ReceiveAsync(2, CancellationToken.None);

        clock.Advance(Lease / 2);
        Assert.Equal([true], await first.RenewAsync([held[0]], CancellationToken.None));
        clock.Advance((Lease / 2) + TimeSpan.FromSeconds(1));

        // Only the second was not renewed; it goes to another worker, and the attempt of the first counts.
        await using var second = await broker.OpenLinkAsync("taps", "second", Lease);
        await broker.PublishAsync([Crossing.TapEvent(3)]);
        var taken = await second.ReceiveAsync(10, CancellationToken.None);
        Assert.Equal([(2, 2), (3, 1)], taken.Select(d => (Crossing.NumberOf(d.Json), d.Attempt)));

        Outcome[] outcomes = [Outcome.Accepted, Outcome.Released, new Outcome.Modified(default, "e"),
            new Outcome.Rejected("r", null)];
        foreach (var outcome in outcomes)
            Assert.Equal([false], await first.SettledAsync([new(held[1], outcome)]));
        Assert.Equal([false], await first.RenewAsync([held[1]], CancellationToken.None));
        Assert.Equal(3, (await broker.Reports!.ReadFiguresAsync()).Queues[0].InHand);

        Assert.Equal([true], await first.SettledAsync([new(held[0], Outcome.Accepted)]));
        Assert.Equal(
            [true, true], await second.SettledAsync([.. taken.Select(d => new Settlement(d, Outcome.Accepted))]));
        Assert.Equal([false], await second.SettledAsync([new(taken[0], Outcome.Accepted)]));
    }

    [Fact]
    public async Task Leases_that_ran_out_come_back_to_an_idle_link_by_themselves()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider();
        await using (var dead = await crossing.AnotherBroker(clock).OpenLinkAsync("taps", "dead", Lease))
        {
            await crossing.AnotherBroker(clock).PublishAsync([Crossing.TapEvent(1)]);
            await dead.ReceiveAsync(1, CancellationToken.None);
        }
        await using var link = await crossing.AnotherBroker(clock).OpenLinkAsync("taps", "alive", Lease);
        var waiting = link.ReceiveAsync(1, CancellationToken.None);
        clock.Advance(Lease);
        Assert.Equal(2, Assert.Single(await waiting.WaitAsync(Crossing.Limit)).Attempt);
    }

    [Fact]
    public async Task An_idle_link_is_woken_by_a_publish_through_another_connection()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        await using var link = await crossing.Broker().OpenLinkAsync("taps", "w", Lease);
        for (var i = 0; i < 20; i++)
        {
            var waiting = link.ReceiveAsync(10, CancellationToken.None);
            Assert.False(waiting.IsCompleted);
            await crossing.AnotherBroker().PublishAsync([Crossing.TapEvent(i)]);
            Assert.Equal(i, Crossing.NumberOf(Assert.Single(await waiting.WaitAsync(Crossing.Limit)).Json));
        }
    }

    [Fact]
    public async Task Waiting_can_be_cancelled_and_takes_nothing()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var broker = crossing.Broker();
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        using var cancel = new CancellationTokenSource();
        var waiting = link.ReceiveAsync(1, cancel.Token);
        await cancel.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => waiting);
        await broker.PublishAsync([Crossing.TapEvent(1)]);
        Assert.Equal(1, (await broker.Reports!.ReadFiguresAsync()).Queues[0].Ready);
    }

    [Fact]
    public async Task A_hand_over_keeps_to_the_budget_of_bytes_whatever_the_credit()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var broker = crossing.Broker();
        await broker.PublishAsync([.. Enumerable.Range(0, 5).Select(Largest)]);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);

        var first = await link.ReceiveAsync(10, CancellationToken.None);
        Assert.Equal([0, 1, 2, 3], first.Select(d => Crossing.NumberOf(d.Json)));
        Assert.True(first.Sum(d => (long)d.Json.Length) <= Budget.Bytes);
        var settled = await link.SettleAsync(
            [.. first.Select(d => new Settlement(d, Outcome.Accepted))], 10, CancellationToken.None);
        Assert.Equal(4, Crossing.NumberOf(Assert.Single(settled.Deliveries).Json));

        static EncodedEvent Largest(int number)
        {
            var small = Crossing.TapEvent(number);
            var json = new byte[Budget.LargestEvent];
            json.AsSpan().Fill((byte)' ');
            small.Json.CopyTo(json);
            return small with { Json = json };
        }
    }

    [Fact]
    public async Task Many_links_of_several_brokers_share_a_backlog_without_handing_anything_over_twice()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        const int Count = 2000;
        var publishing = Task.WhenAll(Enumerable.Range(0, 4).Select(part => Task.Run(async () =>
        {
            var broker = crossing.AnotherBroker();
            for (var i = part; i < Count; i += 4) await broker.PublishAsync([Crossing.TapEvent(i)]);
        })));

        using var done = new CancellationTokenSource();
        var seen = new System.Collections.Concurrent.ConcurrentBag<int>();
        var receiving = Task.WhenAll(Enumerable.Range(0, 3).Select(worker => Task.Run(async () =>
        {
            var broker = crossing.AnotherBroker();
            await using var link = await broker.OpenLinkAsync("taps", $"{worker}", Lease);
            try
            {
                while (true)
                {
                    var taken = await link.ReceiveAsync(1 + worker * 7, done.Token);
                    foreach (var delivery in taken) seen.Add(Crossing.NumberOf(delivery.Json));
                    Assert.All(await link.SettledAsync(
                        [.. taken.Select(d => new Settlement(d, Outcome.Accepted))]), Assert.True);
                    if (seen.Count >= Count) await done.CancelAsync();
                }
            }
            catch (OperationCanceledException)
            {
            }
        })));
        await publishing.WaitAsync(Crossing.Limit);
        await receiving.WaitAsync(Crossing.Limit);
        Assert.Equal(Enumerable.Range(0, Count), seen.Order());
        Assert.Equal(
            (0, 0), ((int)(await crossing.Reports.ReadFiguresAsync()).Queues[0].Ready!,
            (int)(await crossing.Reports.ReadFiguresAsync()).Queues[0].InHand!));
    }

    [Fact]
    public async Task What_must_exist_and_does_not_is_an_error_that_names_it_and_the_command_that_makes_it()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var broker = crossing.Broker();

        var error = await Assert.ThrowsAsync<CourierException>(() => broker.OpenLinkAsync("tabs", "w", Lease));
        Assert.Contains("queue 'tabs' does not exist", error.Message, StringComparison.Ordinal);
        Assert.Contains("did you mean taps?", error.Message, StringComparison.Ordinal);

        error = await Assert.ThrowsAsync<CourierException>(
            () => broker.PrepareAsync(new Topology(["taps"], [new Route("test.charged", "taps")]), create: false));
        Assert.Contains("route 'test.charged' to 'taps' does not exist", error.Message, StringComparison.Ordinal);
        Assert.Contains("--route test.charged=taps", error.Message, StringComparison.Ordinal);

        error = await Assert.ThrowsAsync<CourierException>(() => broker.PrepareAsync(
            new Topology(["Taps; DROP TABLE"], []), create: true));
        Assert.Contains("not a queue's name", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Several_processes_may_prepare_at_once()
    {
        await using var crossing = new Crossing(new TPlace());
        await Task.WhenAll(Enumerable.Range(0, 8).Select(
            i => Task.Run(() => crossing.RouteAsync(("test.tap", $"queue-{i}"), ("test.tap", "shared")))));
        var topology = await crossing.Reports.ReadTopologyAsync();
        Assert.Equal(9, topology.Queues.Count);
        Assert.Equal(9, topology.Routes.Count);
    }
}
