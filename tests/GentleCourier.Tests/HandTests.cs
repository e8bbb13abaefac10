using System.Globalization;
using System.Text;
using CsCheck;
using GentleCourier.Engines;
using GentleCourier.Receiving.Handling;

namespace GentleCourier.Tests;

/// <summary>What becomes of deliveries, over random histories of links, handlers, brakes and stops.</summary>
public sealed class HandTests
{
    /// <summary>
    /// No event is in two hands, none is forgotten, none settled twice by one link, no more is asked for than may be
    /// held, and whatever waits waits for something that comes.
    /// </summary>
    [Fact]
    public void Laws_hold_over_random_histories() => Gen.Select(
        Gen.Int[1, 8], Gen.Int[1, 3], Gen.Bool, Gen.Bool, Gen.Select(Gen.Int[0, 20], Gen.Int[0, 999]).Array[0, 150])
        .Sample(
            (prefetch, parallel, holdsDelays, hasBeside, steps) =>
            {
                var history = new History(prefetch, parallel, holdsDelays, hasBeside);
                foreach (var (kind, choice) in steps) history.Do(kind, choice);
                history.WindDown();
            },
            iter: 3_000);

    /// <summary>The table, and what has no way out of it.</summary>
    [Fact]
    public void Every_state_leads_to_an_end() => Assert.All(
        Enum.GetValues<DeliveryState>().Where(s => s != DeliveryState.Gone), from =>
        {
            var reached = new HashSet<DeliveryState> { from };
            for (var before = 0; before < reached.Count;)
            {
                before = reached.Count;
                reached.UnionWith(Enum.GetValues<DeliveryState>().Where(
                    to => reached.Any(state => DeliveryStates.MayFollow(state, to))));
            }
            Assert.Contains(DeliveryState.Gone, reached);
            Assert.False(DeliveryStates.MayFollow(DeliveryState.Gone, from));
        });

    /// <summary>
    /// What a link was asked for lies with it while a handler that was thought short turns out long, handlers are
    /// stuck, or there is a pause: nobody is to wait for that.
    /// </summary>
    [Theory]
    [InlineData("long")]
    [InlineData("stuck")]
    [InlineData("pause")]
    [InlineData("held")]
    public void What_a_link_may_still_bring_is_withdrawn_when_nobody_begins_it(string why)
    {
        var hand = new Hand(
            new Credit(why == "long" ? Prefetch.SelfTuned : 16, 1, 1), static _ => Outcome.Released,
            static (_, _) => { });
        hand.Credit.Handled(TimeSpan.FromMilliseconds(0.1), 1, default);
        hand.Credit.Exchanged(TimeSpan.FromMilliseconds(0.2));
        var link = new LinkAccount { BringsByItself = true, Settler = null! };
        Assert.InRange(hand.Next(link, false, default).Receives, 16, 50);
        hand.Came(link, [new(new Numbered(1), new(1, 0, 0, 0), link, null!)], false, default);
        Assert.NotNull(hand.TakeUp(default));

        var now = TimeSpan.FromMilliseconds(100);
        if (why == "stuck") hand.Credit.Stuck(1);
        if (why == "held") hand.Hold(true);
        if (why == "pause") hand.Credit.Pause(TimeSpan.FromSeconds(1));
        Assert.True(hand.HasNext(link, false, now));
        Assert.True(hand.Next(link, false, now) is { Withdraws: true, Receives: 0, LooksAgain: false });
        Assert.False(hand.HasNext(link, false, now));
        Assert.Equal(why == "pause", hand.Next(link, false, now).Withdraws);
    }

    private sealed class History
    {
        private readonly bool holdsDelays;
        private int prefetch, parallel;
        private readonly Hand hand;
        private readonly Link?[] links = new Link?[2];
        private readonly List<Link> all = [];
        private readonly Dictionary<int, int> inQueue = [];
        private readonly HashSet<int> gone = [];
        // What handlers have.
        private readonly List<TakenDelivery> running = [];
        private TimeSpan now;
        private int added, stuck;
        private bool isStopped, isPaused, isHeld;

        public History(int prefetch, int parallel, bool holdsDelays, bool hasBeside)
        {
            (this.prefetch, this.parallel, this.holdsDelays) = (prefetch, parallel, holdsDelays);
            hand = new Hand(new Credit(prefetch, parallel, 1),
                _ => new Outcome.Modified(TimeSpan.FromSeconds(1), "passed by") { Counts = false },
                static (_, _) => { });
            links[0] = Open(false);
            if (hasBeside) links[1] = Open(true);
        }

        public void Do(int kind, int choice)
        {
            switch (kind)
            {
                case < 2: Add(choice); break;
                case < 7: if (LinkOf(choice) is { } link) Step(link, choice); break;
                case < 9: TakeUp(); break;
                case < 13: Finish(choice); break;
                case 13: Pass(TimeSpan.FromMilliseconds(choice * 10)); break;
                case 14: Pause(choice); break;
                case 15: hand.Uphold($"type {choice % 2}", now); break;
                case 16: if (choice < 300) Lose(choice % 2); else hand.Spare($"type {choice % 2}", now); break;
                case 17: Stick(choice); break;
                case 18: Hold(choice % 2 == 0); break;
                case 19: PutBack(choice); break;
                case 20: Steer(choice); break;
            }
            Check();
        }

        /// <summary>All handlers end, time passes, and links do what they are told: nothing is left.</summary>
        public void WindDown()
        {
            hand.Credit.Stuck(-stuck);
            stuck = 0;
            hand.Credit.Pause(null);
            isPaused = false;
            Hold(false);
            var later = new Outcome.Modified(TimeSpan.FromHours(25), "later");
            // Whoever stops takes in nothing more, and goes when nothing is left to do.
            isStopped = added % 2 == 1;
            if (isStopped)
                foreach (var link in links)
                    if (link is not null) hand.Stop(link.Account, now);
            for (var round = 0; round < 10_000; round++)
            {
                foreach (var link in links)
                    if (link is not null) Step(link, round);
                TakeUp();
                if (running.Count > 0) End(running[0], round % 4 > 0 ? Outcome.Accepted : later);
                Pass(TimeSpan.FromHours(1));
                Check();
                if (hand.Holding == default && (isStopped || inQueue.Count == 0)
                    && Enum.GetValues<DeliveryState>().All(state => hand.CountOf(state) == 0)) break;
            }
            Assert.Equal(default, hand.Holding);
            Assert.All(Enum.GetValues<DeliveryState>(), state => Assert.Equal(0, hand.CountOf(state)));
            Assert.All(all, link => Assert.Empty(link.Account.Held));
            Assert.Equal(added, gone.Count + inQueue.Count);
            if (!isStopped) Assert.Empty(inQueue);
        }

        private Link Open(bool isBeside)
        {
            var link = new Link(new LinkAccount
            {
                IsBeside = isBeside, HoldsDelays = holdsDelays, BringsByItself = holdsDelays, Settler = null!,
            });
            all.Add(link);
            return link;
        }

        private Link? LinkOf(int choice) => links[choice % 2] ?? links[0];

        private void Add(int choice)
        {
            for (var i = 0; i <= choice % 3; i++) inQueue[added++] = 0;
        }

        private void Step(Link link, int choice)
        {
            var (account, before) = (link.Account, hand.Holding.Held);
            if (link.Asked > 0 && choice % 3 == 0) Arrive(link, 1 + (choice % link.Asked));
            var step = hand.Next(account, isTime: choice % 4 > 0, now);
            // By hand: nothing is asked for, what lies ready goes back, and whoever waits is told once.
            if (isHeld) Assert.Equal((0, 0, 0), (step.Fetches, step.Receives, account.CountOf(DeliveryState.Ready)));
            Assert.Equal(step.EndsReceiving, isHeld && account.IsReceiving && link.IsKeptWaiting);
            if (step.EndsReceiving) link.IsKeptWaiting = false;
            if (step.EndsReceiving && choice % 2 == 0) (link.Asked, account.IsReceiving) = (0, false);
            if (step.Fetches > 0) Assert.InRange(hand.Holding.Held - account.Sent.Count + step.Fetches, 0, MayHold);
            if (step.Receives > 0)
            {
                Assert.InRange(hand.Holding.Held + step.Receives, 0, MayHold);
                (link.Asked, account.IsReceiving, link.IsKeptWaiting) = (step.Receives, true, true);
            }
            Assert.Equal(step.Settles, account.Sent.Count > 0);
            // At a stop nothing waits for more to go along with it.
            if (account.IsOver) Assert.Equal((0, 0, 0), (step.Fetches, step.Receives, account.Decided.Count));
            // The answer may fail to come: then it is told again.
            if (!step.Settles || (choice % 7 == 0 && !isStopped)) return;
            foreach (var delivery in account.Sent)
            {
                Assert.True(link.Told.Add(delivery.HandOver), "it was settled before");
                var number = ((Numbered)delivery.HandOver).Number;
                if (delivery.Outcome is Outcome.AcceptedOutcome or Outcome.Rejected) gone.Add(number);
                else inQueue[number] = delivery.Attempts.Attempt;
            }
            hand.Told(account);
            Assert.Empty(account.Sent);
            if (step.Fetches > 0) Come(link, step.Fetches);
        }

        // After a pause a few are tried, whatever handlers still have.
        private int MayHold => prefetch + (links[1] is null ? 0 : 1) + (isPaused ? hand.Busy : 0);

        private void Arrive(Link link, int count)
        {
            if (inQueue.Count == 0) return;
            (link.Asked, link.Account.IsReceiving) = (0, false);
            Come(link, count);
        }

        private void Come(Link link, int count)
        {
            var come = inQueue.Take(count).ToList();
            if (come.Count == 0) return;
            foreach (var (number, _) in come) inQueue.Remove(number);
            var suspect = come.Exists(c => c.Key % 13 == 5) && !isStopped;
            var taken = come.ConvertAll(
                c => new TakenDelivery(new Numbered(c.Key), new(c.Value + 1, 0, 0, 0), link.Account, null!));
            var tookThem = hand.Came(link.Account, taken, suspect, now);
            Assert.True(tookThem || suspect);
            Assert.All(taken, d => Assert.NotEqual(DeliveryState.Coming, d.State));
        }

        private void TakeUp()
        {
            while (running.Count < parallel && hand.TakeUp(now) is { } delivery)
            {
                Assert.False(isHeld);
                Assert.Equal(DeliveryState.Running, delivery.State);
                var number = ((Numbered)delivery.HandOver).Number;
                Assert.DoesNotContain(running, r => ((Numbered)r.HandOver).Number == number && !r.IsDecided);
                Assert.DoesNotContain(number, gone);
                running.Add(delivery);
            }
        }

        private void Finish(int choice)
        {
            if (running.Count == 0) return;
            var delivery = running[choice % running.Count];
            var rejected = new Outcome.Rejected("broken", null);
            var later = new Outcome.Modified(TimeSpan.FromMilliseconds(choice * 7), "later")
            {
                Counts = choice % 2 == 0,
            };
            if (choice % 10 == 9)
            {
                hand.Doubt(delivery, new Doubt($"type {choice % 2}", rejected, later), now);
                hand.Handled(TimeSpan.FromMilliseconds(1), 1, now);
                running.Remove(delivery);
                return;
            }
            End(delivery, (choice % 10) switch
            {
                < 5 => Outcome.Accepted,
                5 => Outcome.Released,
                6 => rejected,
                _ => later,
            });
        }

        private void End(TakenDelivery delivery, Outcome outcome)
        {
            var isFirst = !delivery.IsDecided;
            Assert.Equal(isFirst, hand.Decide(delivery, outcome, now));
            Assert.False(hand.Decide(delivery, Outcome.Released, now));
            // Nobody is told of what came by a link that is gone; without an inbox it has acted all the same.
            hand.Handled(TimeSpan.FromMilliseconds(1), 1, now);
            running.Remove(delivery);
        }

        private void Pass(TimeSpan time)
        {
            now += time;
            hand.Tick(now);
            Assert.False(hand.NextTick(now) <= now);
        }

        private void Pause(int choice)
        {
            isPaused = choice % 3 > 0;
            hand.Credit.Pause(isPaused ? now + TimeSpan.FromMilliseconds(choice) : null);
        }

        private void Stick(int choice)
        {
            var change = choice % 2 == 0 && stuck < parallel ? 1 : stuck > 0 ? -1 : 0;
            stuck += change;
            hand.Credit.Stuck(change);
        }

        private void Hold(bool holds)
        {
            isHeld = holds;
            var before = hand.Readied;
            hand.Hold(holds);
            // Whoever waits for something to lie ready is told again.
            if (!holds) Assert.InRange(hand.Readied - before, 0, hand.CountOf(DeliveryState.Ready));
        }

        /// <summary>A handler has taken one up, and does not begin it.</summary>
        private void PutBack(int choice)
        {
            if (running.Count == 0) return;
            var delivery = running[choice % running.Count];
            if (delivery.IsDecided) return;
            running.Remove(delivery);
            hand.PutBack([delivery], now);
            Assert.Equal(
                delivery.Link.IsLost ? DeliveryState.Gone : DeliveryState.Ready, delivery.State);
        }

        private void Steer(int choice)
        {
            (prefetch, parallel) = (1 + (choice % 8), 1 + (choice % 3));
            hand.Credit.Steer(prefetch, parallel);
        }

        /// <summary>A link is lost: the broker has all of it back, and another is opened.</summary>
        private void Lose(int which)
        {
            if (links[which] is not { } link) return;
            foreach (var delivery in link.Account.Held) inQueue.TryAdd(((Numbered)delivery.HandOver).Number, 0);
            hand.Lose(link.Account);
            if (!isPaused && hand.CountOf(DeliveryState.Waiting) + hand.CountOf(DeliveryState.InDoubt) == 0)
                Assert.Null(hand.NextTick(now));
            links[which] = Open(which == 1);
        }

        private void Check()
        {
            var held = all.SelectMany(l => l.Account.Held).ToList();
            Assert.All(held, d => Assert.InRange(d.State, DeliveryState.Ready, DeliveryState.Sent));
            foreach (var state in Enum.GetValues<DeliveryState>())
                Assert.Equal(held.Count(d => d.State == state), hand.CountOf(state));
            Assert.Equal(running.Count, hand.Busy);
            Assert.Equal(held.Sum(d => (long)d.HandOver.Json.Length), hand.Holding.Bytes);
            Assert.All(running, d => Assert.True(d.IsDecided || d.State == DeliveryState.Running));
            // Somebody can name what ends each wait.
            var timed = hand.CountOf(DeliveryState.Waiting) + hand.CountOf(DeliveryState.InDoubt);
            if (timed > 0 || hand.Credit.PausedFor(now) is not null) Assert.NotNull(hand.NextTick(now));
            Assert.All(held, d => Assert.True(d.State != DeliveryState.Following || !d.First!.IsDecided));
            Assert.All(all, link => Assert.True(
                !link.Account.IsOver || link.Account.CountOf(DeliveryState.Waiting) == 0));
            Assert.All(links, link => Assert.True(link is null
                || link.Account.Decided.Count == link.Account.CountOf(DeliveryState.Decided)));
        }

        private sealed record Link(LinkAccount Account)
        {
            public int Asked { get; set; }

            /// <summary>Whether it waits, and has not been told to wait no longer.</summary>
            public bool IsKeptWaiting { get; set; }

            public HashSet<HandOver> Told { get; } = [];
        }
    }

    private sealed class Numbered(int number) : HandOver(JsonOf(number), null, null)
    {
        public int Number => number;

        private static ReadOnlyMemory<byte> JsonOf(int number) => Encoding.UTF8.GetBytes(string.Create(
            CultureInfo.InvariantCulture,
            $$"""{"specversion":"1.0","id":"{{number}}","source":"/harbour","type":"test.tide"}"""));
    }
}
