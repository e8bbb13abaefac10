using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Publishing;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>What is held, and what it costs those that are not.</summary>
public abstract class HeldScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly TimeSpan ForEver = TimeSpan.FromDays(1), Often = TimeSpan.FromSeconds(1);

    /// <summary>However many wait for a route, one of them is tried; all leave once that has been taken.</summary>
    [Fact]
    public async Task What_has_no_route_is_tried_as_a_type_and_leaves_in_order_when_there_is_one()
    {
        await using var crossing = new Crossing(new TPlace());
        var relay = await HandRelay.StartAsync(crossing);
        await relay.AddAsync([.. Enumerable.Range(0, 300).Select(i => ("a", i % 3 == 0 ? null : $"k{i}"))]);
        await relay.AddAsync(("b", "k1"), ("b", "other"));
        relay.Routes.Add("b");
        while (await relay.StepAsync() > 0)
        {
        }
        // What follows one of a key waits with it.
        Assert.Equal(["301"], relay.Published);
        Assert.Equal(301, (await relay.Store.ReadOutboxFiguresAsync()).Held);
        Assert.True((await relay.Store.ReadOutboxAsync(10)).DueIn is { } next && next > TimeSpan.Zero);

        for (var i = 0; i < 5; i++)
        {
            relay.Clock.Advance(Often);
            Assert.Equal(1, await relay.StepAsync());
            Assert.Equal(0, await relay.StepAsync());
        }
        var held = await relay.Store.Held.ReadHeldAsync(1_000);
        Assert.Equal([6, .. Enumerable.Repeat(1, 299), 0], held.OrderBy(h => int.Parse(h.Id)).Select(h => h.Attempts));
        Assert.All(held.Where(h => h.Type == "a"), h => Assert.Equal(relay.Clock.GetUtcNow() + Often, h.Due));

        relay.Routes.Add("a");
        relay.Clock.Advance(Often);
        while (await relay.StepAsync() > 0)
        {
        }
        Assert.Equal(302, relay.Published.Count);
        relay.AssertInOrder();
        await AssertNothingIsHeldAsync(relay);
    }

    /// <summary>Its type has a route, and its turn has not come.</summary>
    [Fact]
    public async Task An_event_whose_type_is_freed_waits_for_an_earlier_one_of_its_key_without_a_route()
    {
        await using var crossing = new Crossing(new TPlace());
        var relay = await HandRelay.StartAsync(crossing);
        await relay.AddAsync(("a", "k"), ("b", "k"), ("b", "l"), ("a", "l"));
        await relay.RunAsync();
        relay.Routes.Add("b");
        relay.Clock.Advance(Often);
        await relay.RunAsync();
        Assert.Equal(["2"], relay.Published);
        // The second of its key has been tried then: it waits by its own type.
        relay.Routes.Add("a");
        relay.Clock.Advance(Often);
        await relay.RunAsync();
        Assert.Equal(4, relay.Published.Count);
        relay.AssertInOrder();
        await AssertNothingIsHeldAsync(relay);
    }

    /// <summary>What waited behind an event that somebody takes away, or repairs, has its turn.</summary>
    [Fact]
    public async Task The_oldest_of_a_key_may_be_discarded_or_repaired_while_it_waits_for_a_route()
    {
        await using var crossing = new Crossing(new TPlace());
        var relay = await HandRelay.StartAsync(crossing);
        relay.Routes.Add("b");
        await relay.AddAsync(("a", "k"), ("b", "k"), ("a", "l"), ("b", "l"), ("a", "m"), ("b", "m"));
        await relay.RunAsync();
        Assert.Empty(relay.Published);
        var held = (await relay.Store.Held.ReadHeldAsync(10)).ToDictionary(h => h.Id);
        Assert.Equal([true], await relay.Store.Held.DiscardHeldAsync([held["0"]]));
        Assert.Equal([true, true], await relay.Store.Held.TryAgainAsync(
            [new(held["2"], HandRelay.Event(2, "b", "l").Json), new(held["4"])]));
        await relay.RunAsync();
        Assert.Equal(["1", "2", "3"], relay.Published.Order());
        relay.Routes.Add("a");
        relay.Clock.Advance(Often);
        await relay.RunAsync();
        Assert.Equal(["1", "2", "3", "4", "5"], relay.Published.Order());
        await AssertNothingIsHeldAsync(relay);
    }

    /// <summary>
    /// Random histories of adding, relaying, routes that come and go, hands, and relays that lose the lead between
    /// reading and marking: in the end everything has left, each key in its order.
    /// </summary>
    [Fact]
    public async Task Whatever_happens_each_key_leaves_in_its_order_and_nothing_is_left_behind()
    {
        await using var crossing = new Crossing(new TPlace());
        for (var seed = 1; seed <= 12; seed++)
        {
            var random = new Random(seed);
            var relay = await HandRelay.StartAsync(crossing, $"harbour{seed}");
            for (var turn = 0; turn < 40; turn++) await OneAsync(relay, random);
            relay.Routes.UnionWith(["a", "b", "c"]);
            await relay.LeadAnewAsync();
            for (var i = 0; i < 60 && relay.Missing > 0; i++)
            {
                relay.Clock.Advance(Often);
                await relay.RunAsync();
            }
            Assert.True(relay.Missing == 0, $"seed {seed}: {relay.Missing} of {relay.Added} are left behind");
            relay.AssertInOrder();
            relay.Clock.Advance(Often);
            await relay.RunAsync();
            await AssertNothingIsHeldAsync(relay);
        }
    }

    /// <summary>
    /// The same with addresses that come and go, and give single events back: each gets all, each key in its order.
    /// </summary>
    [Fact]
    public async Task Whatever_addresses_do_each_gets_each_key_in_its_order_and_nothing_is_left_behind()
    {
        await using var crossing = new Crossing(new TPlace());
        for (var seed = 1; seed <= 12; seed++)
        {
            var random = new Random(seed);
            var relay = await HandRelay.StartAsync(crossing, $"pier{seed}", new Piers(random));
            for (var turn = 0; turn < 40; turn++) await OneAsync(relay, random);
            relay.Routes.UnionWith(Piers.All);
            relay.Piers!.GivesBack = false;
            await relay.LeadAnewAsync();
            for (var i = 0; i < 60 && relay.Missing > 0; i++)
            {
                relay.Clock.Advance(Often);
                await relay.RunAsync();
            }
            Assert.True(relay.Missing == 0, $"seed {seed}: {relay.Missing} of {relay.Added} are left behind");
            relay.AssertInOrder();
            relay.Clock.Advance(Often);
            await relay.RunAsync();
            await AssertNothingIsHeldAsync(relay);
        }
    }

    private static async Task OneAsync(HandRelay relay, Random random)
    {
        switch (random.Next(12))
        {
            case 0 or 1 or 2:
                await relay.AddAsync([.. Enumerable.Range(0, random.Next(1, 9)).Select(_ => (
                    new[] { "a", "b", "c" }[random.Next(3)], random.Next(5) == 0 ? null : $"k{random.Next(4)}"))]);
                break;
            case 3:
                var type = new[] { "a", "b", "c" }[random.Next(3)];
                if (!relay.Routes.Remove(type)) relay.Routes.Add(type);
                break;
            case 4:
                relay.Clock.Advance(Often);
                break;
            case 5:
                await relay.StepAsync(random.Next(1, 6), losesLead: true);
                break;
            case 6 when await relay.Store.Held.ReadHeldAsync(100) is { Count: > 0 } held:
                await relay.Store.Held.TryAgainAsync([new(held[random.Next(held.Count)])]);
                break;
            case 7 when await relay.Store.Held.ReadHeldAsync(100) is { Count: > 0 } held:
                await relay.DiscardAsync(held[random.Next(held.Count)]);
                break;
            default:
                await relay.StepAsync(random.Next(1, 6), readsOn: random.Next(2) == 0);
                break;
        }
    }

    private static async Task AssertNothingIsHeldAsync(HandRelay relay)
    {
        Assert.Equal((0, 0), ((await relay.Store.ReadOutboxFiguresAsync()).Held,
            (await relay.Store.ReadOutboxFiguresAsync()).Waiting));
        Assert.Null((await relay.Store.ReadOutboxAsync(10)).DueIn);
        await using var connection = await relay.Store.OpenConnectionAsync();
        foreach (var table in new[] { "held_key", "held_obstacle" })
        {
            await using var command = connection.CreateCommand();
            command.CommandText = "SELECT count(*) FROM "
                + relay.Store.OutboxTable.Replace("outbox", table, StringComparison.Ordinal);
            Assert.Equal(0L, Convert.ToInt64(await command.ExecuteScalarAsync()));
        }
    }

    /// <summary>
    /// Three addresses, of which those take events that the relay has as routes; now and then one gives an event back.
    /// </summary>
    private sealed class Piers(Random random) : IBroker
    {
        public static readonly string[] All = ["a", "b", "c"];

        /// <summary>Where each type goes.</summary>
        public static readonly Dictionary<string, IReadOnlyList<string>> Routes = new()
        {
            ["a"] = ["a"], ["b"] = ["a", "b"], ["c"] = ["c", "b", "a"],
        };

        public HashSet<string> Up { get; set; } = [];

        public bool GivesBack { get; set; } = true;

        public List<(string Place, string Id)> Taken { get; } = [];

        public string DisplayName => "piers";

        public BrokerAbilities Abilities => BrokerAbilities.None;

        public BrokerServices Services => throw new NotSupportedException();

        public Task<IReadOnlyList<PublishResult>> PublishAsync(
            IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) =>
            Task.FromResult<IReadOnlyList<PublishResult>>([.. events.Select(One)]);

        public Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken) =>
            throw new NotSupportedException();

        public Task<IReceivingLink> OpenLinkAsync(
            string queue, string worker, TimeSpan lease, CancellationToken cancellationToken) =>
            throw new NotSupportedException();

        public ValueTask DisposeAsync() => default;

        // As an address does: it is there or not, and no event of a key comes before one that it has given back.
        private readonly HashSet<(string?, string?)> givenBack = [];

        private PublishResult One(EncodedEvent @event, int index)
        {
            if (index == 0) givenBack.Clear();
            if (!Up.Contains(@event.Address!)) return PublishResult.Unreachable("it is away");
            if (@event.PartitionKey is { } key && givenBack.Contains((@event.Address, key)))
                return PublishResult.Deferred("another with its key was given back");
            if (GivesBack && random.Next(12) == 0)
            {
                givenBack.Add((@event.Address, @event.PartitionKey));
                return PublishResult.Deferred("it is given back");
            }
            Taken.Add((@event.Address!, @event.Id));
            return PublishResult.Taken;
        }
    }

    /// <summary>A relay whose every step is the test's, before a broker that takes what it has a route for.</summary>
    private sealed class HandRelay(IStorePort store, FakeTimeProvider clock, Piers? piers)
    {
        private readonly Dictionary<string, (string Type, string? Key)> events = [];
        private readonly HashSet<(string? Place, string Id)> discarded = [];
        private readonly FanOut? fanOut = piers is null ? null
            : new FanOut(piers, store, Piers.Routes, Often / 3, clock);
        private long term;
        private int leaders;

        public IStorePort Store => store;

        public FakeTimeProvider Clock => clock;

        public HashSet<string> Routes { get; } = [];

        public Piers? Piers => piers;

        public List<string> Published { get; } = [];

        public int Added => events.Count;

        public int Missing => events.SelectMany(e => PlacesOf(e.Value.Type).Select(place => (Place: place, Id: e.Key)))
            .Except(Came).Count(c => !discarded.Contains(c) && !discarded.Contains((null, c.Id)));

        private IEnumerable<(string? Place, string Id)> Came => piers is null
            ? Published.Select(id => ((string?)null, id)) : piers.Taken.Select(t => ((string?)t.Place, t.Id));

        private IReadOnlyList<string?> PlacesOf(string type) =>
            piers is null ? (IReadOnlyList<string?>)[null] : [.. Piers.Routes[type]];

        public static async Task<HandRelay> StartAsync(
            Crossing crossing, string name = "harbour", Piers? piers = null)
        {
            var clock = new FakeTimeProvider(new DateTimeOffset(2031, 6, 14, 6, 0, 0, TimeSpan.Zero));
            var relay = new HandRelay(crossing.Store(name, clock), clock, piers);
            await relay.Store.PrepareAsync(create: true);
            await relay.LeadAnewAsync();
            return relay;
        }

        public static EncodedEvent Event(int number, string type, string? key) =>
            Crossing.Numbered(type, $"{number}", number, key);

        /// <summary>Another relay takes the lead.</summary>
        public async Task LeadAnewAsync()
        {
            await store.ResignAsync(term);
            term = (await store.LeadAsync($"relay {leaders++}", ForEver))!.Value;
        }

        public async Task AddAsync(params (string Type, string? Key)[] added)
        {
            await using var connection = await store.OpenConnectionAsync();
            await using var transaction = await connection.BeginTransactionAsync();
            var first = events.Count;
            foreach (var one in added) events.Add($"{events.Count}", one);
            await store.AddAsync(transaction, [.. added.Select((e, i) => Event(first + i, e.Type, e.Key))]);
            await transaction.CommitAsync();
        }

        public async Task DiscardAsync(HeldEvent held)
        {
            if ((await store.Held.DiscardHeldAsync([held]))[0]) discarded.Add((held.Address, held.Id));
        }

        public async Task RunAsync()
        {
            for (var i = 0; i < 50 && await StepAsync() > 0; i++)
            {
            }
        }

        /// <summary>Reads, publishes and marks.</summary>
        /// <returns>How many events were tried.</returns>
        public async Task<int> StepAsync(int limit = 100, bool readsOn = false, bool losesLead = false)
        {
            var batch = await store.ReadOutboxAsync(limit);
            if (batch.Rows.Count == 0) return 0;
            var marks = await PublishAsync(batch);
            OutboxBatch? next = null;
            if (readsOn && batch.Rows[^1] is { IsHeld: false })
                next = (await store.ReadOnAsync(batch.Rows, limit)) with { DueIn = batch.DueIn };
            if (losesLead)
            {
                var old = term;
                await LeadAnewAsync();
                await store.MarkAsync(old, marks);
                return batch.Rows.Count;
            }
            await store.MarkAsync(term, marks);
            if (next is { Rows.Count: > 0 } && marks.IsForgettingAlone)
                await store.MarkAsync(term, await PublishAsync(next));
            return batch.Rows.Count;
        }

        private async Task<OutboxMarks> PublishAsync(OutboxBatch batch)
        {
            if (fanOut is not null)
            {
                piers!.Up = Routes;
                var (answers, before) = await fanOut.PublishAsync(batch, default);
                return Marking.Of(answers, before, _ => Often);
            }
            var plan = Routing.Deal(
                [.. batch.Rows.Select(r => r.Event)], Routes.ToDictionary(type => type, _ => new[] { 1L }), "here");
            Published.AddRange(batch.Rows.Where((_, i) => plan.Results[i].Fate == PublishFate.Taken)
                .Select(row => row.Event.Id));
            return Marking.Of(batch.Rows, plan.Results, _ => Often);
        }

        /// <summary>Each key at each place, by the first time that each of its events was published.</summary>
        public void AssertInOrder()
        {
            foreach (var key in Came.Distinct().GroupBy(c => (c.Place, events[c.Id].Key))
                .Where(g => g.Key.Key is not null))
            {
                var order = key.Select(c => int.Parse(c.Id)).ToList();
                Assert.True(
                    order.SequenceEqual(order.Order()), $"{store.DisplayName}, {key.Key}: {string.Join(' ', order)}");
            }
        }
    }
}
