using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

public abstract class RelayScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly Dictionary<string, string?> Quick = new() { ["Courier:Relay:FirstDelay"] = "00:00:00.010",
        ["Courier:Relay:MaxDelay"] = "00:00:00.050" };

    [Fact]
    public async Task An_event_without_a_route_is_held_with_its_error_and_delays_only_those_with_its_key()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: Quick);
        await harbour.PublishAsync(
            EventDraft.Of(new Charged(1), new() { PartitionKey = "a" }),
            EventDraft.Of(new Tap(2), new() { PartitionKey = "a" }),
            EventDraft.Of(new Tap(3), new() { PartitionKey = "b" }));
        await harbour.PublishAsync(EventDraft.Of(new Tap(4), new() { PartitionKey = "a" }), EventDraft.Of(new Tap(5)));

        var broker = crossing.Broker();
        await Crossing.UntilAsync(
            async () => (await broker.Reports!.ReadFiguresAsync()).Queues[0].Ready == 2, "the others are relayed");
        Assert.Equal([3, 5], (await broker.Reports!.PeekAsync("taps", 10)).Select(e => Crossing.NumberOf(e.Json)));
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Held == 3, "the rest is held");
        var held = await harbour.Store().Held.ReadHeldAsync(10);
        // Where it was looked for is said: people have two brokers more often than no receiver.
        Assert.Contains($"no queue is routed for type 'test.charged' in {crossing.Broker().DisplayName}",
            held[0].LastError, StringComparison.Ordinal);
        Assert.All(held.Skip(1), e => Assert.Contains("waits behind", e.LastError, StringComparison.Ordinal));

        // Once it has a route everything follows, in order.
        await crossing.RouteAsync(("test.charged", "taps"));
        await Crossing.UntilAsync(
            async () => (await broker.Reports!.ReadFiguresAsync()).Queues[0].Ready == 5, "the held ones are relayed");
        Assert.Equal(
            [3, 5, 1, 2, 4], (await broker.Reports!.PeekAsync("taps", 10)).Select(e => Crossing.NumberOf(e.Json)));
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Waiting == 0, "all are marked");
    }

    /// <summary>
    /// An event that is too large for a broker is one that could not be added, unless it was added past the library.
    /// </summary>
    [Fact]
    public async Task An_event_that_the_broker_refuses_is_set_aside_with_the_reason_and_delays_nobody()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour");
        var large = Crossing.TapEvent(1, "a") with { Json = new byte[5_000_000] };
        await AddAsync(harbour.Store(), large, Crossing.TapEvent(2, "a"));

        await Crossing.UntilAsync(
            async () => (await crossing.Reports.ReadFiguresAsync()).Queues[0].Ready == 1, "the other is relayed");
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Refused == 1, "the large one is set aside");
        var refused = Assert.Single(await harbour.Store().Held.ReadHeldAsync(10));
        Assert.Null(refused.Due);
        Assert.Contains("takes 4,194,304 at the most", refused.LastError, StringComparison.Ordinal);
        Assert.Equal(0, (await harbour.Store().ReadOutboxFiguresAsync()).Waiting);
    }

    /// <summary>More bytes than a server takes in one message, or a process holds: they go in parts.</summary>
    [Fact]
    public async Task Large_events_are_read_and_published_by_their_bytes()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider();
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        var large = Enumerable.Range(1, 9).Select(Crossing.LargeEvent).ToArray();
        await AddAsync(store, large);

        var batch = await store.ReadOutboxAsync(500);
        Assert.InRange(batch.Rows.Count, 1, 5);
        Assert.True(batch.IsFull);
        await crossing.StartAsync("harbour");
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Ready == 9, "all are relayed");
        Assert.Equal(
            Enumerable.Range(1, 9),
                (await crossing.Reports.PeekAsync("taps", 10)).Select(e => Crossing.NumberOf(e.Json)));
    }

    /// <summary>A publish that outlasts the lease: the leader stays it, and each event is published once.</summary>
    [Fact]
    public async Task A_publish_that_takes_longer_than_the_lease_is_not_repeated_by_another()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var one = await crossing.StartAsync("harbour");
        await Crossing.UntilAsync(
            async () => (await one.Store().ReadOutboxFiguresAsync()).Relay is not null, "the first relay leads");
        var leader = (await one.Store().ReadOutboxFiguresAsync()).Relay;
        await crossing.StartAsync("harbour");

        await using (var stranger = await crossing.OpenBrokerAsync())
        {
            await using var locking = await stranger.BeginTransactionAsync();
            await crossing.LockBrokerAsync(stranger);
            await one.PublishAsync(Enumerable.Range(0, 10).Select(i => new Tap(i)));
            // The lead is kept at each third of the lease: this often, and the lease has gone by twice.
            var leads = new HashSet<string>();
            await Crossing.UntilAsync(
                async () => leads.Add(await LeadOfAsync(one.Store())) && leads.Count > 6, "the lead has been kept");
            Assert.All(leads, lead => Assert.StartsWith($"{leader} ", lead, StringComparison.Ordinal));
            await locking.RollbackAsync();
        }
        await Crossing.UntilAsync(
            async () => (await one.Store().ReadOutboxFiguresAsync()).Waiting == 0, "all are marked");
        Assert.Equal(10, (await crossing.FiguresAsync("taps")).Ready);
    }

    /// <summary>
    /// An event without a route, thousands that wait behind it with its partition key, and others: those are relayed at
    /// once, and these when there is a route, in order.
    /// </summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Thousands_that_wait_behind_an_event_without_a_route_delay_nobody_and_keep_their_order(bool alike)
    {
        const int Waiting = 3_000, Others = 500;
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: Quick);
        await harbour.PublishAsync([.. Enumerable.Range(0, Waiting).Select(i => alike || i == 0
            ? EventDraft.Of(new Charged(i), new() { PartitionKey = "a" })
            : EventDraft.Of(new Tap(i), new() { PartitionKey = "a" }))]);
        await harbour.PublishAsync(Enumerable.Range(Waiting, Others).Select(i => new Tap(i)));
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Held == Waiting, "they are held");
        await Crossing.UntilAsync(
            async () => (await crossing.FiguresAsync("taps")).Ready == Others, "others get through");
        // Only the oldest has been tried; whoever waits behind it has not.
        var held = await harbour.Store().Held.ReadHeldAsync(Waiting);
        Assert.True(held[0].Attempts > 0);
        Assert.All(held.Skip(1), e => Assert.Equal(0, e.Attempts));

        await crossing.RouteAsync(("test.charged", "taps"));
        await Crossing.UntilAsync(
            async () => (await crossing.FiguresAsync("taps")).Ready == Waiting + Others, "all are relayed");
        var relayed = (await crossing.Reports.PeekAsync("taps", Waiting + Others))
            .Select(e => Crossing.NumberOf(e.Json));
        Assert.Equal(
            Enumerable.Range(Waiting, Others).Concat(Enumerable.Range(0, Waiting)), relayed);
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()) is { Waiting: 0, Held: 0 }, "all are marked");
    }

    [Fact]
    public async Task While_the_broker_is_not_made_events_wait_and_the_error_can_be_read()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.SharedStore("harbour").PrepareAsync(create: true);
        var harbour = await crossing.StartAsync(
            "harbour", settings: new(Quick) { ["Courier:CreateMissing"] = "false" });
        await harbour.PublishAsync(Enumerable.Range(0, 10).Select(i => new Tap(i)));

        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).LastError is not null, "the relay has failed");
        var figures = await harbour.Store().ReadOutboxFiguresAsync();
        Assert.Equal(10, figures.Waiting);
        Assert.Contains(crossing.Broker().DisplayName, figures.LastError, StringComparison.Ordinal);
        Assert.Contains("courier schema apply", figures.LastError, StringComparison.Ordinal);

        await crossing.RouteAsync(("test.tap", "taps"));
        await Crossing.UntilAsync(
            async () => (await crossing.Reports.ReadFiguresAsync()).Queues[0].Ready == 10, "the broker has them");
        await Crossing.UntilAsync(async () => (
            await harbour.Store().ReadOutboxFiguresAsync()) is { Waiting: 0, LastError: null }, "the error is gone");
    }

    [Fact]
    public virtual async Task A_relay_killed_between_confirmation_and_mark_causes_a_second_copy_that_is_absorbed()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        await harbour.PublishAsync(Enumerable.Range(0, 20).Select(i => new Tap(i)));

        using (var rig = new Rig(crossing, "relay", "harbour", $"Rig:Fault={FaultPoint.PublishedNotMarked}"))
            Assert.Equal(Rig.Killed, await rig.EndsAsync());
        Assert.Equal(20, (await crossing.Reports.ReadFiguresAsync()).Queues[0].Ready);
        Assert.Equal(20, (await harbour.Store().ReadOutboxFiguresAsync()).Waiting);

        await crossing.StartAsync("harbour");
        await Crossing.UntilAsync(
            async () => (await crossing.Reports.ReadFiguresAsync()).Queues[0].Ready == 40,
            "all have been published twice");
        var log = new Log();
        var fares = await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        await Crossing.UntilAsync(
            async () => (await crossing.Reports.ReadFiguresAsync()).Queues[0] is { Ready: 0, InHand: 0 },
            "all are settled");
        Assert.Equal(Enumerable.Range(0, 20), log.Taps.Select(t => t.Data.Number).Order());
        Assert.All(await fares.Store().Inbox.ReadAsync("taps"), e => Assert.Equal(2, e.Copies));
    }

    [Fact]
    public async Task A_relay_that_stops_gives_up_the_lead_at_once_however_briefly_it_has_had_it()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Lease"] = "00:10:00" });
        var store = crossing.SharedStore("harbour");
        await Crossing.UntilAsync(async () => (await store.ReadOutboxFiguresAsync()).Relay is not null, "it leads");
        await harbour.StopAsync().WaitAsync(Crossing.Limit);
        Assert.Null((await store.ReadOutboxFiguresAsync()).Relay);
    }

    [Fact]
    public async Task A_relay_that_waits_is_told_of_every_commit()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        // By itself it would look again after minutes, far beyond the limit of the test.
        var relay = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Lease"] = "00:10:00" });
        await Crossing.UntilAsync(
            async () => (await relay.Store().ReadOutboxFiguresAsync()).Relay is not null, "it leads");
        var publisher = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        for (var i = 1; i <= 20; i++)
        {
            await publisher.PublishAsync(new Tap(i));
            if (i % 2 == 0)
                await Crossing.UntilAsync(
                async () => (await crossing.FiguresAsync("taps")).Ready == i, "it is relayed");
        }
    }

    [Fact]
    public async Task A_second_relay_takes_over_when_the_leader_is_killed()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        using var rig = new Rig(crossing, "relay", "harbour");
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Relay is not null, "the first relay leads");
        var first = (await harbour.Store().ReadOutboxFiguresAsync()).Relay;
        await crossing.StartAsync("harbour");

        await harbour.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(
            async () => (await crossing.Reports.ReadFiguresAsync()).Queues[0].Ready == 1, "the leader relays");
        // On a busy machine its lease may be over for a moment, and nobody's; it is never the other's while it lives.
        Assert.True((await harbour.Store().ReadOutboxFiguresAsync()).Relay is var leader
            && (leader is null || leader == first), leader);

        await rig.KillAsync();
        await harbour.PublishAsync(new Tap(2));
        // The first one may have been killed before it marked its event, which comes twice then.
        await Crossing.UntilAsync(
            async () => (await crossing.Reports.PeekAsync("taps", 10)).Any(e => Crossing.NumberOf(e.Json) == 2),
                "the other relays");
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Relay is { } other && other != first,
            "another relay leads");
    }

    /// <summary>Who leads, and until when.</summary>
    private static async Task<string> LeadOfAsync(IStorePort store)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var command = connection.CreateCommand();
        var table = store.OutboxTable.Replace("outbox", "relay", StringComparison.Ordinal);
        command.CommandText = $"SELECT relay || ' ' || until FROM {table}";
        return (string)(await command.ExecuteScalarAsync())!;
    }

    private static Task AddAsync(IStorePort store, params (string Id, string? Key)[] events) => AddAsync(
        store, [.. events.Select(e => new EncodedEvent(e.Id, "test.tap", e.Key, "{}"u8.ToArray()))]);

    private static async Task AddAsync(IStorePort store, params EncodedEvent[] events)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await store.AddAsync(transaction, events);
        await transaction.CommitAsync();
    }

    [Fact]
    public async Task What_is_added_behind_a_held_event_with_its_key_waits_for_it_and_follows_in_order()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider();
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        var term = (await store.LeadAsync("one", TimeSpan.FromDays(1)))!.Value;
        async Task<string[]> ReadAsync(int limit = 10) =>
            [.. (await store.ReadOutboxAsync(limit)).Rows.Select(r => r.Event.Id)];

        await AddAsync(store, ("1", "a"), ("2", "b"));
        var rows = (await store.ReadOutboxAsync(10)).Rows;
        await store.MarkAsync(
            term, Crossing.Marks(
                rows, TimeSpan.FromMinutes(1), PublishResult.Deferred("not now"), PublishResult.Taken));

        await AddAsync(store, ("3", "a"), ("4", null), ("5", "b"), ("6", "a"));
        Assert.Equal(["4", "5"], await ReadAsync());
        Assert.Equal(TimeSpan.FromMinutes(1), (await store.ReadOutboxAsync(10)).DueIn);

        // When it is due it is tried alone; deferred again, it holds back its followers for as long as itself.
        clock.Advance(TimeSpan.FromMinutes(1));
        Assert.Equal(["1", "4", "5"], await ReadAsync());
        rows = (await store.ReadOutboxAsync(10)).Rows;
        await store.MarkAsync(term, Crossing.Marks(rows, TimeSpan.FromMinutes(5), PublishResult.Deferred("still not")));
        Assert.Equal(["4", "5"], await ReadAsync());
        Assert.Equal(("1", 2, "still not"),
            (await store.Held.ReadHeldAsync(1)).Select(h => (h.Id, h.Attempts, h.LastError)).Single());
        clock.Advance(TimeSpan.FromMinutes(5));

        // Once it has gone, its followers are due, behind it, and so is what was added last.
        rows = (await store.ReadOutboxAsync(10)).Rows;
        await store.MarkAsync(term, Crossing.Marks(rows, default, PublishResult.Taken));
        await AddAsync(store, ("7", "a"));
        Assert.Equal(["3", "6", "7", "4", "5"], await ReadAsync(limit: 40));
        // However many wait for their turn, fresh ones get into every batch.
        Assert.Equal(["3", "4"], await ReadAsync(limit: 1));

        rows = (await store.ReadOutboxAsync(40)).Rows;
        await store.MarkAsync(term, Crossing.Marks(rows, default, [.. rows.Select(_ => PublishResult.Taken)]));
        await AddAsync(store, ("8", "a"));
        Assert.Equal(["8"], await ReadAsync());
        Assert.Equal(0, (await store.ReadOutboxFiguresAsync()).Held);
    }

    /// <summary>What has been published is forgotten whoever leads; holding is for who leads.</summary>
    [Fact]
    public async Task A_relay_that_has_lost_the_lead_forgets_what_is_published_and_holds_nothing()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider();
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        await AddAsync(store, ("1", null), ("2", "a"), ("3", null));

        var lease = TimeSpan.FromSeconds(5);
        var first = await store.LeadAsync("one", lease);
        Assert.NotNull(first);
        Assert.Null(await store.LeadAsync("two", lease));
        var rows = (await store.ReadOutboxAsync(10)).Rows;

        clock.Advance(lease + TimeSpan.FromMilliseconds(1));
        var second = await store.LeadAsync("two", lease);
        Assert.True(second > first);
        var marks = Crossing.Marks(
            rows, TimeSpan.FromHours(1), PublishResult.Taken, PublishResult.Deferred("no"),
                PublishResult.Refused("no"));
        Assert.False(await store.MarkAsync(first.Value, marks));
        Assert.Equal(["2", "3"], (await store.ReadOutboxAsync(10)).Rows.Select(r => r.Event.Id));
        Assert.Equal(0, (await store.ReadOutboxFiguresAsync()).Held);
        Assert.True(await store.MarkAsync(second.Value, marks));
        var figures = await store.ReadOutboxFiguresAsync();
        Assert.Equal((1L, 1L, 1L), (figures.Waiting, figures.Held, figures.Refused));
    }

    /// <summary>Another leader has emptied the outbox meanwhile, and other events have got the same numbers.</summary>
    [Fact]
    public async Task What_is_forgotten_late_is_never_another_event()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider();
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        await AddAsync(store, ("1", null), ("2", null));
        var first = (await store.LeadAsync("one", TimeSpan.FromSeconds(5)))!.Value;
        var rows = (await store.ReadOutboxAsync(10)).Rows;
        clock.Advance(TimeSpan.FromSeconds(6));
        var second = (await store.LeadAsync("two", TimeSpan.FromSeconds(5)))!.Value;
        var taken = Crossing.Marks(rows, default, PublishResult.Taken, PublishResult.Taken);
        await store.MarkAsync(second, taken);

        await AddAsync(store, ("3", null), ("4", null));
        await store.MarkAsync(first, taken);
        Assert.Equal(["3", "4"], (await store.ReadOutboxAsync(10)).Rows.Select(r => r.Event.Id));
    }
}