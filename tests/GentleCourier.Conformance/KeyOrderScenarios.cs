using System.Collections.Concurrent;
using System.Diagnostics;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>Queues in key order: the events of one partition key one at a time, whoever takes them.</summary>
public abstract class KeyOrderScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly TimeSpan Lease = TimeSpan.FromSeconds(30), Stands = TimeSpan.FromSeconds(20);

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

    [Fact]
    public async Task The_oldest_comes_first_whatever_its_key_is_called_and_however_fast_others_come()
    {
        await using var crossing = new Crossing(new TPlace());
        var broker = crossing.Broker();
        await PrepareAsync(broker);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        await broker.PublishAsync([.. Enumerable.Range(0, 400).Select(n => Crossing.TapEvent(n, $"m{n}"))]);
        await broker.PublishAsync([Crossing.TapEvent(400, "zz"), Crossing.TapEvent(401, "zz"), Crossing.TapEvent(402)]);
        for (var next = 0; next < 400;)
        {
            // More come than are handled, and all their names come before.
            await broker.PublishAsync(
                [.. Enumerable.Range(0, 30).Select(n => Crossing.TapEvent(1000 + next + n, $"a{next + n}"))]);
            var taken = await link.ReceiveAsync(20, CancellationToken.None).WaitAsync(Crossing.Limit);
            Assert.Equal(
                Enumerable.Range(next, 20), taken.Select(d => Crossing.NumberOf(d.Json)));
            await link.SettledAsync([.. taken.Select(d => new Settlement(d, Outcome.Accepted))]);
            next += 20;
        }
        var last = await link.ReceiveAsync(2, CancellationToken.None).WaitAsync(Crossing.Limit);
        Assert.Equal([400, 402], last.Select(d => Crossing.NumberOf(d.Json)));
    }

    /// <summary>
    /// Random histories of publishing, workers that take, settle in every way, die, and clocks that go on: what is
    /// handed over is always the oldest of what may be, each key one at a time and in its order, and all comes.
    /// </summary>
    [Fact]
    public async Task Whatever_workers_do_the_oldest_that_may_be_is_handed_over()
    {
        for (var seed = 21; seed <= 30; seed++)
        {
            await using var crossing = new Crossing(new TPlace());
            var play = await KeyOrderPlay.StartAsync(crossing, seed);
            for (var turn = 0; turn < 120; turn++) await play.OneAsync();
            await play.EndAsync();
        }
    }

    [Fact]
    public async Task A_worker_that_dies_when_it_has_settled_a_key_and_told_nobody_keeps_what_is_behind_it_from_nobody()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var broker = crossing.AnotherBroker(clock);
        await PrepareAsync(broker);
        await broker.PublishAsync(
            [.. Enumerable.Range(0, 300).Select(n => Crossing.TapEvent(n, n % 2 == 0 ? "a" : "b"))]);
        await using var link = await crossing.AnotherBroker(clock).OpenLinkAsync("taps", "w", Lease);
        var held = await link.ReceiveAsync(10, CancellationToken.None).WaitAsync(Crossing.Limit);
        Assert.Equal([0, 1], held.Select(d => Crossing.NumberOf(d.Json)));
        // It looks at all of it, and passes it by.
        await using var other = await broker.OpenLinkAsync("taps", "v", Lease);
        var waiting = other.ReceiveAsync(10, CancellationToken.None);
        await broker.PublishAsync([Crossing.TapEvent(300, "c")]);
        Assert.Equal(300, Crossing.NumberOf(Assert.Single(await waiting.WaitAsync(Crossing.Limit)).Json));

        FaultPoint.Armed = name =>
        {
            if (name == FaultPoint.CommittedNotConfirmed) throw new InvalidOperationException("it is killed here");
        };
        try
        {
            await link.SettledAsync([.. held.Select(d => new Settlement(d, Outcome.Accepted))]);
        }
        catch (InvalidOperationException)
        {
            // Where settling and looking for the next are two.
        }
        finally
        {
            FaultPoint.Armed = null;
        }
        waiting = other.ReceiveAsync(10, CancellationToken.None);
        clock.Advance(Lease + Lease);
        var found = (await waiting.WaitAsync(Crossing.Limit)).Select(d => Crossing.NumberOf(d.Json)).ToHashSet();
        while (!found.IsSupersetOf([2, 3]))
        {
            found.UnionWith((await other.ReceiveAsync(10, CancellationToken.None).WaitAsync(Crossing.Limit))
                .Select(d => Crossing.NumberOf(d.Json)));
        }
        Assert.Empty(found.Except([2, 3, 300]));
    }

    /// <summary>
    /// Publishers of the same keys and workers, some of which die, all at once: each key is in one hand, and what one
    /// publisher has published with it is accepted in its order.
    /// </summary>
    [Fact]
    public async Task However_many_publish_and_take_at_once_each_key_is_in_one_hand_and_in_its_order()
    {
        const int Publishers = 3, Workers = 4, OfPhase = 90;
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var brokers = Enumerable.Range(0, Publishers + Workers).Select(_ => crossing.AnotherBroker(clock)).ToList();
        await PrepareAsync(brokers[0]);
        var (inHand, accepted) = (new ConcurrentDictionary<string, int>(), new ConcurrentQueue<int>());
        var overlaps = new ConcurrentQueue<string>();
        var dead = new ConcurrentQueue<string>();
        var mayHaveBeen = false;
        for (var phase = 0; phase < 4; phase++)
        {
            using var over = new CancellationTokenSource();
            var (first, isLast) = (phase * OfPhase, phase == 3);
            var published = Enumerable.Range(0, Publishers).Select(p => PublishAsync(p, first)).ToList();
            var working = Enumerable.Range(0, Workers).Select(w => WorkAsync(w, isLast, over.Token)).ToList();
            await Task.WhenAll(published).WaitAsync(Crossing.Limit);
            if (isLast)
            {
                var (last, since) = (0, Stopwatch.GetTimestamp());
                await Crossing.UntilAsync(
                    () =>
                    {
                        if (accepted.Count > last) (last, since) = (accepted.Count, Stopwatch.GetTimestamp());
                        // What a link was given, whose answer was lost, comes again when its lease is over.
                        if (Stopwatch.GetElapsedTime(since) > Stands)
                        {
                            since = Stopwatch.GetTimestamp();
                            clock.Advance(Lease + Lease);
                        }
                        return Task.FromResult(last >= Publishers * OfPhase * 4 || !overlaps.IsEmpty
                            || working.Exists(w => w.IsFaulted));
                    },
                    "all are accepted");
            }
            await over.CancelAsync();
            await Task.WhenAll(working).WaitAsync(Crossing.Limit);
            // What the dead held comes back.
            while (dead.TryDequeue(out var key)) inHand.TryRemove(key, out _);
            clock.Advance(Lease + Lease);
        }
        Assert.Empty(overlaps);
        Assert.Equal(Publishers * OfPhase * 4, accepted.Distinct().Count());
        foreach (var key in accepted.Distinct().GroupBy(n => (Publisher: n / 10_000, Key: KeyOf(n))))
            Assert.Equal(key.Order(), key);

        static string KeyOf(int number) => $"k{number % 10_000 % 11}";

        async Task PublishAsync(int publisher, int from)
        {
            var random = new Random(publisher + from);
            for (var i = from; i < from + OfPhase;)
            {
                var count = Math.Min(random.Next(1, 6), from + OfPhase - i);
                var first = (publisher * 10_000) + i;
                await PatientlyAsync(() => brokers[Workers + publisher].PublishAsync(
                    [.. Enumerable.Range(first, count).Select(n => Crossing.TapEvent(n, KeyOf(n)))]));
                i += count;
            }
        }

        async Task WorkAsync(int worker, bool isLast, CancellationToken over)
        {
            var random = new Random(worker);
            var link = await brokers[worker].OpenLinkAsync("taps", $"w{worker}", Lease, CancellationToken.None);
            List<HandOver> held = [];
            while (!over.IsCancellationRequested)
            {
                try
                {
                    if (held.Count == 0) Take(await PatientlyAsync(() => link.ReceiveAsync(random.Next(1, 6), over)));
                }
                catch (OperationCanceledException)
                {
                    break;
                }
                await Task.Yield();
                if (!isLast && random.Next(15) == 0)
                {
                    foreach (var lost in held) dead.Enqueue(KeyOf(Crossing.NumberOf(lost.Json)));
                    held.Clear();
                    await link.DisposeAsync();
                    link = await brokers[worker].OpenLinkAsync("taps", $"w{worker}", Lease, CancellationToken.None);
                    continue;
                }
                await SettleAsync(link, held, random);
            }
            while (held.Count > 0) await SettleAsync(link, held, random, takes: false);
            await link.DisposeAsync();

            void Take(IReadOnlyList<HandOver> taken)
            {
                foreach (var delivery in taken)
                {
                    var number = Crossing.NumberOf(delivery.Json);
                    if (!inHand.TryAdd(KeyOf(number), number))
                        overlaps.Enqueue($"{number} is handed over while {inHand.GetValueOrDefault(KeyOf(number))} is");
                }
                held.AddRange(taken);
            }

            async Task SettleAsync(IReceivingLink link, List<HandOver> held, Random random, bool takes = true)
            {
                var settled = held.Take(random.Next(1, 4)).ToList();
                held.RemoveRange(0, settled.Count);
                var outcomes = settled.ConvertAll(_ => random.Next(8) switch
                {
                    0 => Outcome.Released,
                    1 => new Outcome.Modified(TimeSpan.Zero, "e"),
                    _ => Outcome.Accepted,
                });
                for (var i = 0; i < settled.Count; i++)
                {
                    var number = Crossing.NumberOf(settled[i].Json);
                    if (outcomes[i] == Outcome.Accepted) accepted.Enqueue(number);
                    inHand.TryRemove(KeyOf(number), out _);
                }
                var isFirst = true;
                var exchange = await PatientlyAsync(() =>
                {
                    (isFirst, var again) = (false, !isFirst);
                    mayHaveBeen |= again;
                    return link.SettleAsync(
                        [.. settled.Select((d, i) => new Settlement(d, outcomes[i]))], takes ? random.Next(3) : 0,
                        default);
                });
                if (!mayHaveBeen) Assert.All(exchange.Took, Assert.True);
                Take(exchange.Deliveries);
            }
        }

        // The server has others' tests to bear, too: what it does not answer is asked again, as workers do.
        static async Task<T> PatientlyAsync<T>(Func<Task<T>> ask)
        {
            for (var i = 0; ; i++)
            {
                try
                {
                    return await ask();
                }
                catch (CourierException) when (i < 100)
                {
                    await Task.Delay(50);
                }
            }
        }
    }

    private sealed class KeyOrderPlay(FakeTimeProvider clock, int seed)
    {
        private enum State
        {
            Waits,
            InHand,
            Later,
            Done,
        }

        private sealed class Copy(int number, string key)
        {
            public int Number => number;

            public string Key => key;

            public State State { get; set; }

            public DateTimeOffset Until { get; set; }

            public HandOver? Delivery { get; set; }

            public int Link { get; set; }
        }

        private readonly Random random = new(seed);
        private readonly List<Copy> copies = [];
        private readonly List<IReceivingLink> links = [];
        private readonly List<IBroker> brokers = [];

        public static async Task<KeyOrderPlay> StartAsync(Crossing crossing, int seed)
        {
            var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
            var play = new KeyOrderPlay(clock, seed);
            for (var i = 0; i < 3; i++)
            {
                play.brokers.Add(crossing.AnotherBroker(clock));
                if (i == 0) await PrepareAsync(play.brokers[0]);
                play.links.Add(await play.brokers[i].OpenLinkAsync("taps", $"w{i}", Lease));
            }
            return play;
        }

        public async Task OneAsync()
        {
            switch (random.Next(10))
            {
                case 0 or 1 or 2:
                    await PublishAsync(random.Next(1, 9));
                    break;
                case 3 or 4 or 5:
                    await ReceiveAsync();
                    break;
                case 6 when random.Next(4) == 0:
                    clock.Advance(random.Next(2) == 0 ? TimeSpan.FromSeconds(5) : Lease + Lease);
                    break;
                case 7 when random.Next(8) == 0:
                    await DieAsync(random.Next(links.Count));
                    break;
                default:
                    await SettleAsync(random.Next(links.Count));
                    break;
            }
        }

        public async Task EndAsync()
        {
            for (var i = 0; copies.Exists(c => c.State != State.Done); i++)
            {
                Assert.True(i < 500, Said("it does not end"));
                if (!Eligible().Any()) clock.Advance(Lease + Lease);
                await ReceiveAsync();
                foreach (var copy in copies.Where(c => c.State == State.InHand && c.Delivery is not null).ToList())
                    await SettleAsync(copy, Outcome.Accepted);
            }
        }

        private async Task PublishAsync(int count)
        {
            var first = copies.Count;
            for (var i = 0; i < count; i++)
                copies.Add(new(first + i, random.Next(6) == 0 ? $"own {first + i}" : $"k{random.Next(5)}"));
            await brokers[0].PublishAsync(
                [.. copies.Skip(first).Select(c => Crossing.TapEvent(
                    c.Number, c.Key.StartsWith("own", StringComparison.Ordinal) ? null : c.Key))]);
        }

        private IEnumerable<Copy> Eligible() => copies.Where(c => c.State != State.Done).GroupBy(c => c.Key)
            .Select(key => key.First())
            .Where(c => c.State == State.Waits || c.Until <= clock.GetUtcNow());

        private async Task ReceiveAsync()
        {
            var credit = random.Next(1, 7);
            var expected = Eligible().Take(credit).ToList();
            if (expected.Count == 0) return;
            var link = random.Next(links.Count);
            var taken = await links[link].ReceiveAsync(credit, CancellationToken.None).WaitAsync(Crossing.Limit);
            // Fewer, where there is much between them that has to wait; but never a younger one before an older.
            Assert.True(
                expected.Take(taken.Count).Select(c => c.Number).SequenceEqual(
                    taken.Select(d => Crossing.NumberOf(d.Json))),
                Said($"{credit} are asked for: {string.Join(' ', expected.Select(c => c.Number))} may be handed over, "
                    + $"{string.Join(' ', taken.Select(d => Crossing.NumberOf(d.Json)))} are"));
            foreach (var delivery in taken) Taken(delivery, link);
        }

        private void Taken(HandOver delivery, int link)
        {
            var copy = copies[Crossing.NumberOf(delivery.Json)];
            Assert.True(Eligible().Contains(copy), Said($"{copy.Number} may not be handed over"));
            (copy.State, copy.Until, copy.Delivery, copy.Link) =
                (State.InHand, clock.GetUtcNow() + Lease, delivery, link);
        }

        /// <summary>Settles some of what a link holds, and takes what it is given.</summary>
        private async Task SettleAsync(int link)
        {
            var held = copies.Where(c => c.State == State.InHand && c.Link == link && c.Delivery is not null)
                .OrderBy(_ => random.Next()).Take(random.Next(1, 5)).ToList();
            if (held.Count == 0) return;
            var outcomes = held.ConvertAll(_ => random.Next(6) switch
            {
                0 => Outcome.Released,
                1 => new Outcome.Modified(TimeSpan.FromSeconds(random.Next(1, 20)), "e"),
                2 => new Outcome.Modified(TimeSpan.Zero, "e"),
                3 => new Outcome.Rejected("r", null),
                _ => Outcome.Accepted,
            });
            var exchange = await links[link].SettleAsync(
                [.. held.Select((c, i) => new Settlement(c.Delivery!, outcomes[i]))], random.Next(4),
                CancellationToken.None);
            for (var i = 0; i < held.Count; i++) Settled(held[i], outcomes[i], exchange.Took[i]);
            foreach (var delivery in exchange.Deliveries) Taken(delivery, link);
        }

        private async Task SettleAsync(Copy copy, Outcome outcome) => Settled(
            copy, outcome, (await links[copy.Link].SettledAsync([new(copy.Delivery!, outcome)]))[0]);

        private void Settled(Copy copy, Outcome outcome, bool took)
        {
            copy.Delivery = null;
            if (!took)
            {
                // Its lease had run out; it waits for whoever comes, or has been given back by then.
                Assert.True(copy.Until <= clock.GetUtcNow(), Said($"{copy.Number} was held, and could not be settled"));
                return;
            }
            (copy.State, copy.Until) = outcome switch
            {
                Outcome.ReleasedOutcome => (State.Waits, copy.Until),
                Outcome.Modified { Delay: var delay } => (State.Later, clock.GetUtcNow() + delay),
                _ => (State.Done, copy.Until),
            };
        }

        /// <summary>A worker that is killed: what it holds comes back once its leases have run out.</summary>
        private async Task DieAsync(int link)
        {
            foreach (var copy in copies.Where(c => c.Link == link)) copy.Delivery = null;
            links[link] = await brokers[link].OpenLinkAsync("taps", $"w{link} again", Lease);
        }

        private string Said(string what) => $"seed {seed}: {what}\n" + string.Join('\n', copies
            .Where(c => c.State != State.Done).Take(40)
            .Select(c => $"{c.Number} {c.Key} {c.State} {(c.Until - clock.GetUtcNow()).TotalSeconds:0} s"));
    }
}
