using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

public abstract class RelayScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly Dictionary<string, string?> Quick = new() { ["Courier:Relay:FirstDelay"] = "00:00:00.010",
        ["Courier:Relay:LongestDelay"] = "00:00:00.050" };

    [Fact]
    public async Task An_event_without_a_route_is_held_with_its_error_and_delays_only_those_with_its_key()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: Quick);
        await harbour.PublishAsync(
            EventDraft.Of(new Charged(1), partitionKey: "a"),
            EventDraft.Of(new Tap(2), partitionKey: "a"),
            EventDraft.Of(new Tap(3), partitionKey: "b"));
        await harbour.PublishAsync(EventDraft.Of(new Tap(4), partitionKey: "a"), EventDraft.Of(new Tap(5)));

        var broker = crossing.Broker();
        await Crossing.UntilAsync(
            async () => (await broker.ReadFiguresAsync())[0].Ready == 2, "the others are relayed");
        Assert.Equal([3, 5], (await broker.PeekAsync("taps", 10)).Select(e => Crossing.NumberOf(e.Json)));
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Held == 3, "the rest is held");
        var held = await harbour.Store().ReadHeldAsync(10);
        Assert.Contains("no queue is routed for type 'test.charged'", held[0].LastError, StringComparison.Ordinal);
        Assert.All(held.Skip(1), e => Assert.Contains("waits behind", e.LastError, StringComparison.Ordinal));

        // Once it has a route everything follows, in order.
        await crossing.RouteAsync(("test.charged", "taps"));
        await Crossing.UntilAsync(
            async () => (await broker.ReadFiguresAsync())[0].Ready == 5, "the held ones are relayed");
        Assert.Equal([3, 5, 1, 2, 4], (await broker.PeekAsync("taps", 10)).Select(e => Crossing.NumberOf(e.Json)));
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Waiting == 0, "all are marked");
    }

    [Fact]
    public async Task An_event_that_the_broker_refuses_is_set_aside_with_the_reason_and_delays_nobody()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:MaxEventBytes"] = "16000000" });
        await harbour.PublishAsync(
            EventDraft.Of(new Tap(1, new string('x', 5_000_000)), partitionKey: "a"),
                EventDraft.Of(new Tap(2), partitionKey: "a"));

        await Crossing.UntilAsync(
            async () => (await crossing.Broker().ReadFiguresAsync())[0].Ready == 1, "the other is relayed");
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Refused == 1, "the large one is set aside");
        var refused = Assert.Single(await harbour.Store().ReadHeldAsync(10));
        Assert.Null(refused.Due);
        Assert.Contains("takes 4,194,304 at the most", refused.LastError, StringComparison.Ordinal);
        Assert.Equal(0, (await harbour.Store().ReadOutboxFiguresAsync()).Waiting);
    }

    [Fact]
    public async Task While_the_broker_is_away_events_wait_and_the_error_can_be_read()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", settings: Quick);
        await harbour.PublishAsync(Enumerable.Range(0, 10).Select(i => new Tap(i)));

        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).LastError is not null, "the relay has failed");
        var figures = await harbour.Store().ReadOutboxFiguresAsync();
        Assert.Equal(10, figures.Waiting);
        Assert.Contains(crossing.Broker().DisplayName, figures.LastError, StringComparison.Ordinal);
        Assert.Contains("courier schema apply", figures.LastError, StringComparison.Ordinal);

        await crossing.RouteAsync(("test.tap", "taps"));
        await Crossing.UntilAsync(
            async () => (await crossing.Broker().ReadFiguresAsync())[0].Ready == 10, "the broker has them");
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
        Assert.Equal(20, (await crossing.Broker().ReadFiguresAsync())[0].Ready);
        Assert.Equal(20, (await harbour.Store().ReadOutboxFiguresAsync()).Waiting);

        await crossing.StartAsync("harbour");
        await Crossing.UntilAsync(
            async () => (await crossing.Broker().ReadFiguresAsync())[0].Ready == 40, "all have been published twice");
        var log = new Log();
        var fares = await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        await Crossing.UntilAsync(
            async () => (await crossing.Broker().ReadFiguresAsync())[0] is { Ready: 0, InHand: 0 }, "all are settled");
        Assert.Equal(Enumerable.Range(0, 20), log.Taps.Select(t => t.Data.Number).Order());
        Assert.All(await fares.Store().ReadInboxAsync("taps"), e => Assert.Equal(2, e.Copies));
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
            async () => (await crossing.Broker().ReadFiguresAsync())[0].Ready == 1, "the leader relays");
        Assert.Equal(first, (await harbour.Store().ReadOutboxFiguresAsync()).Relay);

        await rig.KillAsync();
        await harbour.PublishAsync(new Tap(2));
        // The first one may have been killed before it marked its event, which comes twice then.
        await Crossing.UntilAsync(
            async () => (await crossing.Broker().PeekAsync("taps", 10)).Any(e => Crossing.NumberOf(e.Json) == 2),
                "the other relays");
        Assert.NotEqual(first, (await harbour.Store().ReadOutboxFiguresAsync()).Relay);
    }

    private static async Task AddAsync(IStorePort store, params (string Id, string? Key)[] events)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await store.AddAsync(
            transaction, [.. events.Select(e => new EncodedEvent(e.Id, "test.tap", e.Key, "{}"u8.ToArray()))]);
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
            term, [new(rows[0], PublishResult.Deferred("not now"), TimeSpan.FromMinutes(1)),
            new(rows[1], PublishResult.Taken, default)]);

        await AddAsync(store, ("3", "a"), ("4", null), ("5", "b"), ("6", "a"));
        Assert.Equal(["4", "5"], await ReadAsync());
        Assert.Equal(TimeSpan.FromMinutes(1), (await store.ReadOutboxAsync(10)).DueIn);

        clock.Advance(TimeSpan.FromMinutes(1));
        Assert.Equal(["1", "3", "6", "4", "5"], await ReadAsync());

        // Deferred again, it holds back its followers for as long as itself.
        rows = (await store.ReadOutboxAsync(10)).Rows;
        await store.MarkAsync(term, [new(rows[0], PublishResult.Deferred("still not"), TimeSpan.FromMinutes(5))]);
        Assert.Equal(["4", "5"], await ReadAsync());
        Assert.Equal(("1", 2, "still not"),
            (await store.ReadHeldAsync(1)).Select(h => (h.Id, h.Attempts, h.LastError)).Single());
        clock.Advance(TimeSpan.FromMinutes(5));

        // However many have failed before, fresh ones get into every batch.
        Assert.Equal(["1", "4"], await ReadAsync(limit: 2));
    }

    [Fact]
    public async Task A_relay_that_has_lost_the_lead_marks_nothing()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider();
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        await AddAsync(store, ("1", null));

        var lease = TimeSpan.FromSeconds(5);
        var first = await store.LeadAsync("one", lease);
        Assert.NotNull(first);
        Assert.Null(await store.LeadAsync("two", lease));
        var rows = (await store.ReadOutboxAsync(10)).Rows;

        clock.Advance(lease + TimeSpan.FromMilliseconds(1));
        var second = await store.LeadAsync("two", lease);
        Assert.True(second > first);
        RelayMark[] marks = [new(rows[0], PublishResult.Taken, default)];
        Assert.False(await store.MarkAsync(first.Value, marks));
        Assert.Equal(1, (await store.ReadOutboxFiguresAsync()).Waiting);
        Assert.True(await store.MarkAsync(second.Value, marks));
        Assert.Equal(0, (await store.ReadOutboxFiguresAsync()).Waiting);
    }
}
