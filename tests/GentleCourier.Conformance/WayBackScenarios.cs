using System.Collections.Concurrent;
using System.Text;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>How what was set aside, held or refused comes back, or goes for good.</summary>
public abstract class WayBackScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly TimeSpan Lease = TimeSpan.FromSeconds(30);
    private static readonly DateTimeOffset Morning = DateTimeOffset.Parse("2031-06-14T06:00:00Z");

    /// <summary>Receives from a queue and rejects it all.</summary>
    private static async Task RejectAsync(IBroker broker, int count, string queue = "taps", string reason = "no pier")
    {
        await using var link = await broker.OpenLinkAsync(queue, "pier/7", Lease);
        for (var left = count; left > 0;)
        {
            var taken = await link.ReceiveAsync(Math.Min(left, 500), CancellationToken.None).WaitAsync(Crossing.Limit);
            await link.SettledAsync([.. taken.Select(delivery => new Settlement(
                delivery, new Outcome.Rejected(reason, Failure.Of(new InvalidOperationException(reason)))))]);
            left -= taken.Count;
        }
    }

    private static async Task<List<DeadLetter>> LettersAsync(IBroker broker, string? queue = null) =>
        await broker.DeadLetters!.ReadAllAsync(queue).ToListAsync();

    private static LetterReturn[] Back(IEnumerable<DeadLetter> letters) =>
        [.. letters.Select(l => new LetterReturn(l))];

    [Fact]
    public async Task A_services_own_code_looks_into_queues_and_sends_back_what_was_set_aside()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log { OnTap = (_, _) => throw new RejectException("no such pier") };
        var fares = await crossing.StartAsync(
            "fares", courier => courier.Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
            services: services => services.AddSingleton(log));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await crossing.SettledAsync(deadLetters: 1);
        var letters = fares.Services.GetRequiredService<IDeadLetters>();
        var letter = Assert.Single(await letters.ReadAsync("taps", 10));
        Assert.Equal(letter.Id, (await letters.FindAsync(letter.Id))!.Id);
        await fares.StopAsync();
        Assert.Equal([true], await letters.SendBackAsync([new LetterReturn(letter)]));
        var queued = Assert.Single(
            (await fares.Services.GetRequiredService<IQueues>().LookAsync("taps", 10)).Events);
        Assert.Equal((1, QueuedState.Ready), (Crossing.NumberOf(queued.Json), queued.State));
        Assert.Empty(await fares.Services.GetRequiredService<IHeldEvents>().ReadHeldAsync(10));
    }

    [Fact]
    public async Task Letters_go_back_to_their_own_queue_alone_begin_anew_and_keep_their_history()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"), ("test.tap", "others"));
        var clock = new FakeTimeProvider(Morning);
        var broker = crossing.AnotherBroker(clock);
        await broker.PublishAsync([Crossing.TapEvent(1), Crossing.TapEvent(2)]);
        await RejectAsync(broker, 2);
        var letters = await LettersAsync(broker);

        clock.Advance(TimeSpan.FromHours(1));
        var repaired = Crossing.TapEvent(22).Json;
        LetterReturn[] back = [new(letters[0]), new(letters[1], repaired)];
        Assert.Equal([true, true], await broker.DeadLetters!.SendBackAsync(back));
        Assert.Equal([false, false], await broker.DeadLetters!.SendBackAsync(back));
        var figures = (await broker.Reports!.ReadFiguresAsync()).Queues;
        Assert.Equal(("others", 2, 0), (figures[0].Queue, (int)figures[0].Ready!, (int)figures[0].DeadLetters!));
        Assert.Equal(("taps", 2, 0), (figures[1].Queue, (int)figures[1].Ready!, (int)figures[1].DeadLetters!));
        // What has come since is what there is to be done: the balance holds.
        Assert.Equal((4, 2), (figures[1].History[^1].Came, figures[1].History[^1].SetAside));

        var seen = (await broker.Reports!.PeekAsync("taps", 10)).OrderBy(e => Crossing.NumberOf(e.Json)).ToList();
        Assert.Equal([1, 22], seen.Select(e => Crossing.NumberOf(e.Json)));
        Assert.All(seen, e => Assert.Equal((0, Morning.AddHours(1)), (e.Attempts, e.Arrived)));
        Assert.Equal([false, true], seen.Select(e => Assert.Single(e.History).IsRepaired));

        await RejectAsync(broker, 2, reason: "still no pier");
        var again = (await LettersAsync(broker, "taps")).Single(l => Crossing.NumberOf(l.Json) == 1);
        Assert.Equal(("still no pier", 1, Morning.AddHours(1)), (again.Reason, again.Attempts, again.Arrived));
        Assert.Equivalent(
            new SentBack(letters[0].Id, Morning, "no pier", typeof(InvalidOperationException).FullName, "no pier", 1,
                "pier/7", Morning.AddHours(1), false),
            Assert.Single(again.History));
    }

    /// <summary>
    /// Whoever repairs what was set aside has one thing to do for each event, however many copies came.
    /// </summary>
    [Fact]
    public async Task Copies_of_one_event_are_one_letter_and_what_was_sent_back_stands_for_the_others()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var broker = crossing.Broker();
        var other = Encoding.UTF8.GetBytes(
            """{"specversion":"1.0","id":"1","source":"/t","type":"test.tap","data":{"number":11} }""");
        EncodedEvent[] events = [.. Enumerable.Range(0, 20).Select(n => Crossing.TapEvent(n)),
            new("1", "test.tap", null, other), new("x", "test.tap", null, "no event"u8.ToArray())];
        // Each comes twice, and their copies are set aside by two at the same moment.
        await broker.PublishAsync([.. events.SelectMany(e => new[] { e, e })]);
        await Task.WhenAll(RejectAllAsync(), RejectAllAsync());
        var letters = await LettersAsync(broker);
        Assert.Equal(events.Select(e => Encoding.UTF8.GetString(e.Json.Span)).Order(),
            letters.Select(l => Encoding.UTF8.GetString(l.Json.Span)).Order());
        await BalancesAsync(dead: 22, setAside: 22, accepted: 22);

        // One goes back, and another copy fails before it does.
        var first = letters.Single(l => l.Json.Span.SequenceEqual(events[0].Json.Span));
        await broker.DeadLetters!.SendBackAsync([new(first)]);
        await broker.PublishAsync([events[0]]);
        var announced = new List<string>();
        await using (var link = await broker.OpenLinkAsync("taps", "w", Lease))
        {
            var taken = await link.ReceiveAsync(2, CancellationToken.None).WaitAsync(Crossing.Limit);
            foreach (var copy in taken.Reverse())
            {
                var exchange = await link.SettleAsync(
                    [new(copy, new Outcome.Rejected("no pier", null))], 0, CancellationToken.None);
                announced.AddRange(exchange.DeadLetters!.Values);
            }
        }
        var again = (await LettersAsync(broker)).Single(l => l.Json.Span.SequenceEqual(events[0].Json.Span));
        Assert.Equal((2, again.Id, first.Id), (announced.Count, announced[1], again.History.Single().Letter));
        Assert.Null(await broker.DeadLetters!.FindAsync(announced[0]));
        await BalancesAsync(dead: 22, setAside: 24, accepted: 22);

        async Task RejectAllAsync()
        {
            await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
            for (var left = 22; left > 0; left--)
            {
                var taken = await link.ReceiveAsync(1, CancellationToken.None).WaitAsync(Crossing.Limit);
                await link.SettledAsync([new(taken[0], new Outcome.Rejected("no pier", null))]);
            }
        }

        async Task BalancesAsync(int dead, int setAside, int accepted)
        {
            var figures = await crossing.FiguresAsync("taps");
            var counts = figures.History[^1];
            Assert.Equal((0L, 0L, (long)dead), (figures.Ready, figures.InHand, figures.DeadLetters));
            Assert.Equal(((long)setAside, (long)accepted), (counts.SetAside, counts.Accepted));
        }
    }

    /// <summary>Wherever it goes on its way: put off, given back, taken up again.</summary>
    [Fact]
    public async Task The_history_stays_with_an_event_whatever_becomes_of_it_and_is_not_kept_for_ever()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider(Morning);
        var broker = crossing.AnotherBroker(clock);
        await broker.PublishAsync([Crossing.TapEvent(1)]);
        for (var time = 1; time <= 12; time++)
        {
            await using (var link = await broker.OpenLinkAsync("taps", "w", Lease))
            {
                foreach (var outcome in new[] { Outcome.Released, new Outcome.Modified(default, "at once"),
                    new Outcome.Modified(TimeSpan.FromSeconds(3), "later") })
                {
                    var taken = await link.ReceiveAsync(1, CancellationToken.None).WaitAsync(Crossing.Limit);
                    await link.SettledAsync([new(taken[0], outcome)]);
                }
            }
            clock.Advance(TimeSpan.FromSeconds(3));
            await RejectAsync(broker, 1, reason: $"time {time}");
            var letter = Assert.Single(await LettersAsync(broker));
            Assert.Equal(Math.Min(time - 1, 10), letter.History.Count);
            Assert.Equal([true], await broker.DeadLetters!.SendBackAsync([new(letter)]));
        }
        Assert.Equal(
            Enumerable.Range(3, 10).Select(time => $"time {time}"),
            Assert.Single(await broker.Reports!.PeekAsync("taps", 1)).History.Select(h => h.Reason));
    }

    [Fact]
    public async Task In_key_order_a_letter_goes_to_the_end_of_its_key_and_what_cannot_be_read_goes_back_too()
    {
        await using var crossing = new Crossing(new TPlace());
        var broker = crossing.Broker();
        await broker.PrepareAsync(
            new Topology(["taps"], [new("test.tap", "taps")]) { InKeyOrder = ["taps"] }, create: true);
        await broker.PublishAsync([Crossing.TapEvent(1, "a"), new("x", "test.tap", null, "no event"u8.ToArray())]);
        await RejectAsync(broker, 2);
        await broker.PublishAsync([Crossing.TapEvent(2, "a")]);
        // Its own key is in the event that was published, where there is one.
        var keyed = Encoding.UTF8.GetBytes("""
            {"specversion":"1.0","id":"1","source":"/t","type":"test.tap","partitionkey":"a","data":{"number":1}}
            """);
        var letters = (await LettersAsync(broker)).OrderBy(l => l.Json.Length).ToList();
        Assert.Equal([true, true], await broker.DeadLetters!.SendBackAsync([new(letters[1], keyed), new(letters[0])]));
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        var taken = await link.ReceiveAsync(10, CancellationToken.None).WaitAsync(Crossing.Limit);
        Assert.Equal(2, taken.Count);
        var two = taken.Single(d => d.Json.Span.IndexOf("\"number\":2"u8) > 0);
        Assert.Contains(taken, d => d.Json.Span.SequenceEqual("no event"u8));
        await link.SettledAsync([.. taken.Select(d => new Settlement(d, Outcome.Accepted))]);
        Assert.Equal(1, Crossing.NumberOf(Assert.Single(
            await link.ReceiveAsync(10, CancellationToken.None).WaitAsync(Crossing.Limit)).Json));
        Assert.Equal(2, Crossing.NumberOf(two.Json));
    }

    [Fact]
    public async Task What_is_discarded_is_gone_and_is_counted_no_more()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var broker = crossing.Broker();
        await broker.PublishAsync([.. Enumerable.Range(0, 5).Select(i => Crossing.TapEvent(i))]);
        await RejectAsync(broker, 5);
        var letters = await LettersAsync(broker);
        Assert.Equal([true, false, true],
            await broker.DeadLetters!.DiscardAsync([letters[0].Id, "no letter", letters[3].Id]));
        Assert.Equal([false], await broker.DeadLetters!.DiscardAsync([letters[0].Id]));
        Assert.Equal([letters[1].Id, letters[2].Id, letters[4].Id], (await LettersAsync(broker)).Select(l => l.Id));
        var figures = await crossing.FiguresAsync("taps");
        Assert.Equal((0, 3), (figures.Waiting, figures.DeadLetters));
        Assert.Null(await broker.DeadLetters!.FindAsync(letters[0].Id));
    }

    [Fact]
    public async Task Letters_are_read_page_by_page_in_both_directions_and_by_their_bytes()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"), ("test.charged", "charges"));
        var broker = crossing.Broker();
        await broker.PublishAsync([.. Enumerable.Range(0, 7).Select(i => Crossing.TapEvent(i))]);
        await broker.PublishAsync([Crossing.ChargedEvent(100)]);
        await RejectAsync(broker, 3);
        await RejectAsync(broker, 1, "charges");
        await RejectAsync(broker, 4);
        Assert.Equal([0, 1, 2, 100, 3, 4, 5, 6],
            (await LettersAsync(broker)).Select(l => Crossing.NumberOf(l.Json)));
        Assert.Equal(
            [0, 1, 2, 3, 4, 5, 6], (await LettersAsync(broker, "taps")).Select(l => Crossing.NumberOf(l.Json)));
        var newest = await broker.DeadLetters!.ReadAsync("taps", 2);
        Assert.Equal([6, 5], newest.Select(l => Crossing.NumberOf(l.Json)));
        Assert.Equal([4, 3, 2], (await broker.DeadLetters!.ReadAsync("taps", 3, newest[^1].Id))
            .Select(l => Crossing.NumberOf(l.Json)));
        Assert.Empty(await broker.DeadLetters!.ReadAsync(null, 3, "no letter"));

        var text = new string('x', 4_000_000);
        for (var i = 0; i < 6; i++)
        {
            var json = $$"""{"specversion":"1.0","id":"{{i}}","source":"/t","type":"test.tap","data":"{{text}}"}""";
            await broker.PublishAsync([Crossing.TapEvent(i) with { Json = Encoding.UTF8.GetBytes(json) }]);
        }
        await RejectAsync(broker, 6);
        Assert.Equal(5, (await broker.DeadLetters!.ReadAsync("taps", 100)).Count);
        Assert.Equal(14, (await LettersAsync(broker)).Count);
    }

    /// <summary>
    /// Two people send back the same letters while two workers handle them, some of which fail again.
    /// </summary>
    [Fact]
    public async Task Whoever_sends_back_at_once_with_others_loses_and_doubles_nothing()
    {
        const int Count = 600;
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var broker = crossing.Broker();
        await broker.PublishAsync([.. Enumerable.Range(0, Count).Select(i => Crossing.TapEvent(i))]);
        await RejectAsync(broker, Count);
        var (handled, ending) = (new ConcurrentQueue<int>(), new CancellationTokenSource());
        Task[] workers = [WorkAsync(), WorkAsync()];
        var letters = await LettersAsync(broker);
        var went = await Task.WhenAll(SendAsync(letters), SendAsync(Enumerable.Reverse(letters)));
        Assert.Equal(Count, went.Sum());
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Waiting == 0, "all are settled");
        await ending.CancelAsync();
        await Task.WhenAll(workers);

        var aside = (await LettersAsync(broker)).Select(l => Crossing.NumberOf(l.Json)).ToList();
        Assert.Equal(aside.Count, (await crossing.FiguresAsync("taps")).DeadLetters);
        Assert.Equal(Enumerable.Range(0, Count), handled.Concat(aside).Order());
        Assert.All(aside, number => Assert.Equal(0, number % 10));

        async Task<int> SendAsync(IEnumerable<DeadLetter> these)
        {
            var (own, count) = (crossing.AnotherBroker(), 0);
            foreach (var part in these.Chunk(50))
                count += (await own.DeadLetters!.SendBackAsync(Back(part))).Count(w => w);
            return count;
        }

        async Task WorkAsync()
        {
            await Task.Yield();
            await using var link = await crossing.AnotherBroker().OpenLinkAsync("taps", "w", Lease);
            try
            {
                while (true)
                {
                    var taken = await link.ReceiveAsync(20, ending.Token);
                    var settlements = taken.Select(d => new Settlement(d, Crossing.NumberOf(d.Json) % 10 == 0
                        ? new Outcome.Rejected("again", null) : Outcome.Accepted)).ToList();
                    await link.SettledAsync(settlements);
                    foreach (var s in settlements.Where(s => s.Outcome is not Outcome.Rejected))
                        handled.Enqueue(Crossing.NumberOf(s.Delivery.Json));
                }
            }
            catch (OperationCanceledException)
            {
                // All are settled.
            }
        }
    }

    [Fact]
    public async Task Held_events_are_due_at_once_and_refused_or_repaired_ones_are_added_anew()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(Morning);
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        await AddAsync(store, ("1", null), ("2", "a"), ("3", null), ("4", "b"), ("5", "a"), ("6", null));
        var term = (await store.LeadAsync("one", TimeSpan.FromDays(1)))!.Value;
        var rows = (await store.ReadOutboxAsync(10)).Rows;
        var notNow = PublishResult.Deferred("not now");
        await store.MarkAsync(term, Crossing.Marks(rows, TimeSpan.FromHours(1), notNow, notNow,
            PublishResult.Refused("too odd"), PublishResult.Refused("too odd"), notNow, notNow));
        var held = (await store.Held.ReadHeldAsync(10)).ToDictionary(h => h.Id);
        Assert.Equal(["1", "2", "3", "4", "5", "6"], held.Keys.Order());
        Assert.Equal(("2", "a", rows[1].Event.Json.Length),
            (held["2"].Id, held["2"].PartitionKey, held["2"].Json.Length));
        var last = (await store.Held.ReadHeldAsync(2))[^1];
        Assert.Equal(4, (await store.Held.ReadHeldAsync(10, last.Row)).Count);
        Assert.Equal(held["3"].Id, (await store.Held.FindHeldAsync(held["3"].Row))!.Id);
        Assert.Empty((await store.ReadOutboxAsync(10)).Rows);

        EncodedEvent repaired = Crossing.TapEvent(66);
        Assert.Equal([true, true, true, true], await store.Held.TryAgainAsync(
            [new(held["1"]), new(held["2"]), new(held["3"]), new(held["6"], repaired.Json)]));
        // Of a key the oldest goes first, and what waits behind it follows.
        Assert.Equal(["1", "2", "3", "66"], (await store.ReadOutboxAsync(10)).Rows.Select(r => r.Event.Id));
        // The row of an event that has gone may be another's.
        Assert.Equal(
            [false, false], await store.Held.TryAgainAsync([new(held["3"]), new(held["4"] with { Id = "x" })]));

        Assert.Equal([true, false], await store.Held.DiscardHeldAsync([held["4"], held["6"]]));
        Assert.Equal(["1", "2", "5"], (await store.Held.ReadHeldAsync(10)).Select(h => h.Id));
        Assert.Null(await store.Held.FindHeldAsync(held["4"].Row));
        Assert.Equal(0, (await store.ReadOutboxFiguresAsync()).Refused);
    }

    [Fact]
    public async Task A_relay_publishes_what_was_refused_once_it_is_repaired_and_tried_again()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour");
        await AddAsync(harbour.Store(), Crossing.TapEvent(1) with { Json = new byte[5_000_000] });
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Refused == 1, "it is refused");
        var refused = Assert.Single(await crossing.SharedStore("harbour").Held.ReadHeldAsync(10));
        await crossing.SharedStore("harbour").Held.TryAgainAsync([new(refused, Crossing.TapEvent(1).Json)]);
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Ready == 1, "it is published");
    }

    /// <summary>At each place between two writes of it.</summary>
    [Theory]
    [InlineData(FaultPoint.WrittenNotCommitted)]
    [InlineData(FaultPoint.CommittedNotConfirmed)]
    public async Task Whoever_is_killed_while_sending_back_loses_and_doubles_nothing(string place)
    {
        const int Count = 10;
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, Count).Select(i => Crossing.TapEvent(i))]);
        await RejectAsync(crossing.Broker(), Count);
        using (var killed = new Rig(crossing, "send-back", "fares", $"Rig:Fault={place}"))
            Assert.True(await killed.EndsAsync() == Rig.Killed, string.Join('\n', killed.Lines));
        Assert.Equal(Count, await TotalAsync());
        using (var whole = new Rig(crossing, "send-back", "fares")) Assert.Equal(0, await whole.EndsAsync());
        Assert.Empty(await LettersAsync(crossing.Broker()));
        Assert.Equal(Count, await TotalAsync());

        async Task<int> TotalAsync()
        {
            var waiting = (await crossing.Reports.PeekAsync("taps", 100)).Select(e => Crossing.NumberOf(e.Json));
            var aside = (await LettersAsync(crossing.Broker())).Select(l => Crossing.NumberOf(l.Json));
            return waiting.Concat(aside).Order().SequenceEqual(Enumerable.Range(0, Count)) ? Count : -1;
        }
    }

    private static Task AddAsync(IStorePort store, params (string Id, string? Key)[] events) =>
        AddAsync(store, [.. events.Select(e => new EncodedEvent(e.Id, "test.tap", e.Key, "{}"u8.ToArray()))]);

    private static async Task AddAsync(IStorePort store, params EncodedEvent[] events)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await store.AddAsync(transaction, events);
        await transaction.CommitAsync();
    }
}
