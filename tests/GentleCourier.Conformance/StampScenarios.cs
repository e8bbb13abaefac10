using GentleCourier.Engines;
using GentleCourier.Publishing;
using GentleCourier.Watching;
using Microsoft.Extensions.Logging.Abstractions;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>A broker that is not the one it was, and who publishes for a store.</summary>
public abstract class StampScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(1);

    [Fact]
    public async Task A_publish_takes_the_place_of_the_one_before_or_is_not_taken()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var stamps = crossing.Broker().Stamps!;
        var first = await stamps.ReadLastAsync("harbour");
        Assert.Equal(default, first.Last);
        Assert.Equal(first, await stamps.ReadLastAsync("harbour"));
        await PublishAsync(1, default, new(1, 1));
        // What others publish, and new routes, are no matter.
        var other = await crossing.AnotherBroker().Stamps!.ReadLastAsync("fares");
        Assert.Equal(first with { Last = default }, other);
        await stamps.PublishAsync([Crossing.TapEvent(2)], new("fares", first.Generation, default, new(7, 1)));
        await crossing.AnotherBroker().PublishAsync([Crossing.TapEvent(3)]);
        await crossing.RouteAsync(("test.charged", "charges"));
        await PublishAsync(4, new(1, 1), new(1, 2));
        Assert.Equal(new Stamp(1, 2), (await stamps.ReadLastAsync("harbour")).Last);

        foreach (var (generation, before) in new[]
            { (first.Generation, new Stamp(1, 1)), (first.Generation, new(1, 3)), ("another", new(1, 2)) })
        {
            await Assert.ThrowsAsync<StampGoneException>(() => stamps.PublishAsync(
                [Crossing.TapEvent(5)], new("harbour", generation, before, new(2, 1))));
        }
        Assert.Equal(4, (await crossing.FiguresAsync("taps")).Ready);
        await PublishAsync(5, new(1, 2), new(2, 1));
        Assert.Equal(5, (await crossing.FiguresAsync("taps")).Ready);

        Task PublishAsync(int number, Stamp before, Stamp with) => stamps.PublishAsync(
            [Crossing.TapEvent(number)], new("harbour", first.Generation, before, with));
    }

    [Fact]
    public async Task Of_many_who_publish_at_once_in_the_place_of_the_same_one_alone_is_taken()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        IBroker[] brokers = [.. Enumerable.Range(0, 4).Select(_ => crossing.AnotherBroker())];
        var last = await brokers[0].Stamps!.ReadLastAsync("harbour");
        for (var round = 1; round <= 20; round++)
        {
            var tries = brokers.Select((broker, i) => TryAsync(broker, new(round, i + 1))).ToArray();
            Assert.Single(await Task.WhenAll(tries), taken => taken);
            last = await brokers[0].Stamps!.ReadLastAsync("harbour");
            Assert.Equal(round, last.Last.Term);
        }
        Assert.Equal(20, (await crossing.FiguresAsync("taps")).Ready);

        async Task<bool> TryAsync(IBroker broker, Stamp with)
        {
            try
            {
                await broker.Stamps!.PublishAsync(
                    [Crossing.TapEvent((int)with.Term)], new("harbour", last.Generation, last.Last, with));
                return true;
            }
            catch (StampGoneException)
            {
                return false;
            }
        }
    }

    [Theory]
    [InlineData(true, "it was made anew")]
    [InlineData(false, "it has fallen behind")]
    public async Task A_relay_stops_before_a_broker_that_is_not_the_one_it_was_until_that_is_accepted(
        bool isAnother, string said)
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var store = crossing.SharedStore("harbour");
        await store.PrepareAsync(create: true);
        var there = await crossing.Broker().Stamps!.ReadLastAsync("whoever");
        var left = new Confirmed(
            isAnother ? "the one before" : there.Generation, there.Address, new(1, 7));
        await ConfirmAsync(store, left);

        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(new Tap(1), new Tap(2));
        await Crossing.UntilAsync(
            async () => (await store.ReadOutboxFiguresAsync()).LastError?.Contains(
                $"is not as this outbox left it: {said}", StringComparison.Ordinal) == true, "it says so");
        Assert.Equal(2, (await store.ReadOutboxFiguresAsync()).Waiting);
        Assert.Equal(0, (await crossing.FiguresAsync("taps")).Ready);
        await store.AcceptBrokerAsync(asNewStore: false);
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Ready == 2, "it goes on");
        await Crossing.UntilAsync(
            async () => await store.ReadOutboxFiguresAsync() is { Waiting: 0, LastError: null }, "all is marked");
        // And is as careful as before.
        await harbour.StopAsync();
        var term = (await store.LeadAsync("one", Lease))!.Value;
        var known = Assert.Single((await store.ReadConfirmedAsync(term))!.Confirmed);
        Assert.Equal((there.Generation, there.Address), (known.Generation, known.Address));
        Assert.True(known.Stamp.Number > 0);
    }

    [Fact]
    public async Task A_broker_at_another_place_is_gone_on_with_and_said_until_it_is_accepted()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var store = crossing.SharedStore("harbour");
        await store.PrepareAsync(create: true);
        await ConfirmAsync(store, new("the one before", "elsewhere", new(1, 7)));
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Ready == 1, "it goes on");
        await Crossing.UntilAsync(
            async () => await store.ReadOutboxFiguresAsync() is { Waiting: 0, FormerBrokers: 1 }, "it is said");
        Assert.Contains(
            StoreFindings.Of("harbour", await store.ReadOutboxFiguresAsync()), f => f.Code == "broker-moved");
        await store.AcceptBrokerAsync(asNewStore: false);
        await harbour.PublishAsync(new Tap(2));
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Ready == 2, "it still does");
        await Crossing.UntilAsync(
            async () => await store.ReadOutboxFiguresAsync() is { Waiting: 0, FormerBrokers: 0 }, "it is accepted");
    }

    /// <summary>A store that was restored is behind the broker: it publishes again, and goes on.</summary>
    [Fact]
    public async Task A_store_that_was_restored_goes_on_in_a_term_above_that_of_the_broker()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var store = crossing.SharedStore("harbour");
        await store.PrepareAsync(create: true);
        var identity = await IdentifyAsync(store);
        var stamps = crossing.Broker().Stamps!;
        var there = await stamps.ReadLastAsync(identity);
        await stamps.PublishAsync([Crossing.TapEvent(1)], new(identity, there.Generation, default, new(40, 3)));

        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(new Tap(2));
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Ready == 2, "it goes on");
        Assert.Equal(41, (await stamps.ReadLastAsync(identity)).Last.Term);
        await harbour.PublishAsync(new Tap(3));
        await Crossing.UntilAsync(
            async () => await store.ReadOutboxFiguresAsync() is { Waiting: 0, LastError: null }, "and further");
        Assert.Equal(3, (await crossing.FiguresAsync("taps")).Ready);
    }

    /// <summary>A copy of a store that goes on beside the original is found out, whichever is first.</summary>
    [Fact]
    public async Task Two_stores_of_one_identity_are_told_apart_and_nothing_is_lost()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        IStorePort[] stores = [crossing.SharedStore("harbour"), crossing.SharedStore("copy")];
        foreach (var store in stores) await store.PrepareAsync(create: true);
        var identity = await IdentifyAsync(stores[0]);
        await using (var connection = await stores[1].OpenConnectionAsync())
            await connection.ExecuteAsync($"UPDATE {TableOf(stores[1], "relay")} SET identity = '{identity}'");
        var (harbour, copy) = (await crossing.StartAsync("harbour"), await crossing.StartAsync("copy"));
        var published = 0;
        // Each publishes in turn, until one of them says so.
        await Crossing.UntilAsync(
            async () =>
            {
                if ((await OutboxesAsync()).Any(f => SaysTwin(f))) return true;
                if ((await OutboxesAsync()).All(f => f.Waiting == 0))
                    await (published % 2 == 0 ? harbour : copy).PublishAsync(new Tap(published++));
                return false;
            },
            "one says that there is another");
        var stopped = SaysTwin((await OutboxesAsync())[0]) ? 0 : 1;
        await stores[stopped].AcceptBrokerAsync(asNewStore: true);
        await Crossing.UntilAsync(
            async () => (await OutboxesAsync()).All(f => f is { Waiting: 0, LastError: null }), "both go on");
        for (var i = 0; i < 10; i++) await (i % 2 == 0 ? harbour : copy).PublishAsync(new Tap(published++));
        await Crossing.UntilAsync(
            async () => (await OutboxesAsync()).All(f => f is { Waiting: 0, LastError: null }), "for good");
        var there = await crossing.Reports.PeekAsync("taps", 1000);
        Assert.Equal(
            Enumerable.Range(0, published), there.Select(e => Crossing.NumberOf(e.Json)).Distinct().Order());

        async Task<OutboxFigures[]> OutboxesAsync() =>
            [await stores[0].ReadOutboxFiguresAsync(), await stores[1].ReadOutboxFiguresAsync()];

        static bool SaysTwin(OutboxFigures figures) =>
            figures.LastError?.Contains("another store publishes to", StringComparison.Ordinal) == true;
    }

    /// <summary>Nobody publishes anything, and the broker loses something all the same.</summary>
    [Fact]
    public async Task A_relay_with_nothing_to_publish_learns_within_a_minute_that_the_broker_has_fallen_behind()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider();
        var (store, lead, stamper) = await LeadAsync(crossing, clock);
        await stamper.PublishAsync([Crossing.TapEvent(1)], default);
        await stamper.PublishAsync([Crossing.TapEvent(2)], default);
        var identity = await IdentifyAsync(store, lead.Term!.Value);
        await stamper.LookIfItIsTimeAsync(default);

        await using (var connection = await crossing.OpenBrokerAsync())
        {
            var table = TableOf(store, "stamp");
            await connection.ExecuteAsync($"UPDATE {table} SET number = 1 WHERE store = '{identity}'");
        }
        clock.Advance(TimeSpan.FromSeconds(59));
        await stamper.LookIfItIsTimeAsync(default);
        clock.Advance(TimeSpan.FromSeconds(1));
        var changed = await Assert.ThrowsAsync<BrokerChangedException>(() => stamper.LookIfItIsTimeAsync(default));
        Assert.False(changed.IsAnother);
    }

    /// <summary>A relay whose term is over is no alarm, whatever it knows by then.</summary>
    [Fact]
    public async Task A_relay_that_was_followed_by_another_publishes_nothing_and_is_told_that_its_term_is_over()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var (_, first, old) = await LeadAsync(crossing, new FakeTimeProvider());
        await old.PublishAsync([Crossing.TapEvent(1)], default);
        await crossing.SharedStore("harbour").ResignAsync(first.Term!.Value);
        var (_, second, now) = await LeadAsync(crossing, new FakeTimeProvider());
        Assert.True(second.Term > first.Term);
        await now.PublishAsync([Crossing.TapEvent(2)], default);
        await Assert.ThrowsAsync<DeposedException>(() => old.PublishAsync([Crossing.TapEvent(3)], default));
        Assert.Null(await old.BeginAsync(first.Term!.Value, default));
        await now.PublishAsync([Crossing.TapEvent(4)], default);
        Assert.Equal(3, (await crossing.FiguresAsync("taps")).Ready);
    }

    /// <summary>An answer that was lost, of a publish that was taken: the next one finds it there.</summary>
    [Fact]
    public async Task A_publish_whose_answer_was_lost_keeps_nobody()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var (store, lead, _) = await LeadAsync(crossing, new FakeTimeProvider());
        var stamper = new Stamper(
            new LosesAnswers(crossing.AnotherBroker()), store, lead, TimeProvider.System, NullLogger.Instance);
        for (var i = 1; i <= 10; i++)
        {
            Assert.Equal(lead.Term, await stamper.BeginAsync(lead.Term!.Value, default));
            if (i % 2 == 0) await stamper.PublishAsync([Crossing.TapEvent(i)], default);
            else await Assert.ThrowsAsync<TimeoutException>(() => stamper.PublishAsync(LosesAnswers.Lost(i), default));
        }
        Assert.Equal(10, (await crossing.FiguresAsync("taps")).Ready);
        await stamper.BeginAsync(lead.Term!.Value, default);
        await using var connection = await crossing.OpenBrokerAsync();
        await using var command = connection.CreateCommand();
        command.CommandText = $"SELECT count(*) FROM {TableOf(store, "stamp")} WHERE term > 0";
        Assert.Equal(1, Convert.ToInt32(await command.ExecuteScalarAsync(), null));
    }

    /// <summary>Freezes a process; kills it, where a frozen one may hold a lock that everybody needs.</summary>
    protected virtual Task StunAsync(Rig rig)
    {
        rig.Freeze();
        return Task.CompletedTask;
    }

    /// <summary>
    /// Relays are killed, and frozen for longer than their lease, so that each takes the lead from another that may
    /// wake up in the middle of a publish. Nobody takes that for a broker that has lost something.
    /// </summary>
    [Fact]
    public async Task Relays_that_take_the_lead_from_each_other_lose_nothing_and_raise_no_alarm()
    {
        const int rounds = 9, each = 60;
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        var rigs = Enumerable.Range(0, 3).Select(_ => NewRelay()).ToList();
        var said = new List<string>();
        var store = crossing.SharedStore("harbour");
        try
        {
            for (var round = 0; round < rounds; round++)
            {
                await Crossing.UntilAsync(() => Task.FromResult(rigs.TrueForAll(r => r.HasStarted)), "all relays run");
                var leader = "";
                await Crossing.UntilAsync(
                    async () => (leader = (await store.ReadOutboxFiguresAsync()).Relay) is not null, "one leads");
                var at = rigs.FindIndex(rig => leader.Contains($"/{rig.ProcessId}/", StringComparison.Ordinal));
                await harbour.PublishAsync(Enumerable.Range(round * each, each).Select(i => new Tap(i)));
                // In the middle of it.
                await Crossing.UntilAsync(
                    async () => (await store.ReadOutboxFiguresAsync()).Waiting < each, "some are relayed");
                await StunAsync(rigs[at]);
                await Crossing.UntilAsync(
                    async () => await store.ReadOutboxFiguresAsync() is { Relay: { } now } && now != leader,
                    "another leads", [.. rigs]);
                await Crossing.UntilAsync(
                    async () => await store.ReadOutboxFiguresAsync() is { Waiting: 0, LastError: null },
                    "all is relayed", [.. rigs]);
                rigs[at].Freeze(isFrozen: false);
                if (round % 3 == 0 && !rigs[at].HasEnded) continue;
                await rigs[at].KillAsync();
                said.AddRange(rigs[at].Lines);
                rigs[at].Dispose();
                rigs[at] = NewRelay();
            }
        }
        finally
        {
            foreach (var rig in rigs) said.AddRange(rig.Lines);
            rigs.ForEach(rig => rig.Dispose());
        }
        Assert.DoesNotContain(said, line => line.Contains("as this outbox left it", StringComparison.Ordinal)
            || line.Contains("another store", StringComparison.Ordinal)
            || line.Contains("store was restored", StringComparison.Ordinal));
        var numbers = (await crossing.Reports.PeekAsync("taps", 10_000)).Select(e => Crossing.NumberOf(e.Json));
        Assert.Equal(Enumerable.Range(0, rounds * each), numbers.Distinct().Order());

        Rig NewRelay() => new(crossing, "relay", "harbour", "Courier:Relay:BatchSize=1");
    }

    private static async Task<(IStorePort Store, Lead Lead, Stamper Stamper)> LeadAsync(
        Crossing crossing, TimeProvider clock)
    {
        var store = crossing.Store("harbour");
        await store.PrepareAsync(create: true);
        var lead = new Lead(store, store.DisplayName, Lease, clock, NullLogger.Instance);
        using (var limit = new CancellationTokenSource())
        {
            var keeping = lead.KeepAsync(limit.Token);
            await lead.TakenAsync(CancellationToken.None).WaitAsync(Crossing.Limit);
            await limit.CancelAsync();
            await keeping.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        var stamper = new Stamper(crossing.AnotherBroker(), store, lead, clock, NullLogger.Instance);
        Assert.Equal(lead.Term, await stamper.BeginAsync(lead.Term!.Value, default));
        return (store, lead, stamper);
    }

    private static async Task ConfirmAsync(IStorePort store, Confirmed confirmed)
    {
        var term = (await store.LeadAsync("one", Lease))!.Value;
        await store.MarkAsync(term, new OutboxMarks([], [], [], []) { By = new(confirmed, null) });
        Assert.Equal(confirmed, Assert.Single((await store.ReadConfirmedAsync(term))!.Confirmed));
        await store.ResignAsync(term);
    }

    private static async Task<string> IdentifyAsync(IStorePort store)
    {
        var term = (await store.LeadAsync("one", Lease))!.Value;
        var identity = await IdentifyAsync(store, term);
        await store.ResignAsync(term);
        return identity;
    }

    private static async Task<string> IdentifyAsync(IStorePort store, long term) =>
        (await store.ReadConfirmedAsync(term))!.Identity;

    private static string TableOf(IStorePort store, string table) =>
        store.OutboxTable.Replace("outbox", table, StringComparison.Ordinal);

    /// <summary>A broker that takes what it is given; the answer to two events at once is lost.</summary>
    private sealed class LosesAnswers(IBroker inner) : BrokerInFront(inner), IStamps
    {
        public override BrokerServices Services => Inner.Services with { Stamps = this };

        public static EncodedEvent[] Lost(int number) =>
            [Crossing.TapEvent(number), Crossing.UnroutedEvent(number, "")];

        public Task<Stamped> ReadLastAsync(string store, CancellationToken cancellationToken) =>
            Inner.Stamps!.ReadLastAsync(store, cancellationToken);

        public async Task<IReadOnlyList<PublishResult>> PublishAsync(
            IReadOnlyList<EncodedEvent> events, Stamping stamping, CancellationToken cancellationToken)
        {
            var results = await Inner.Stamps!.PublishAsync(events, stamping, cancellationToken);
            return events.Count == 1 ? results : throw new TimeoutException("the answer was lost");
        }
    }
}
