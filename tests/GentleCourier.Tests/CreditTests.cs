using CsCheck;
using GentleCourier.Receiving.Handling;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Tests;

public sealed class CreditTests
{
    /// <summary>However busy the one is, there is a place for the other, and no more than one.</summary>
    [Fact]
    public void Of_two_links_the_one_cannot_take_all_places_where_there_are_more_than_are_in_work() => Gen.Select(
        Gen.Int[1, 9], Gen.Int[1, 3], Gen.Int[0, 3].Array[0, 60]).Sample((limit, parallel, steps) =>
    {
        var credit = new Credit(limit, parallel, 1, new FakeTimeProvider());
        var (held, ready, running) = (0, 0, 0);
        _ = credit.NeededBeside;
        foreach (var step in steps)
        {
            if (step is 0 or 3)
            {
                var fetched = step == 0 ? credit.NeededNow : credit.NeededBeside;
                if (fetched > 0) credit.Fetched(fetched);
                (held, ready) = (held + fetched, ready + fetched);
            }
            else if (step == 1 && ready > 0 && running < parallel)
            {
                credit.Started();
                (ready, running) = (ready - 1, running + 1);
            }
            else if (running > 0)
            {
                credit.Handled(TimeSpan.Zero, 1);
                var fetched = credit.WorthFetching(1);
                credit.Settled(1);
                if (fetched > 0) credit.Fetched(fetched);
                (held, ready, running) = (held - 1 + fetched, ready + fetched, running - 1);
            }
            Assert.Equal(
                held <= limit && (limit > parallel || held < limit) ? ready == 0 ? Math.Max(1, limit - held) : 1 : 0,
                credit.NeededBeside);
            Assert.InRange(held, 0, limit > parallel ? limit + 1 : limit);
            Assert.Equal(0, credit.Surplus);
        }
    });

    [Fact]
    public void Never_more_is_asked_for_than_the_prefetch_has_room_for_and_an_idle_handler_is_never_left_without() =>
        Gen.Int[1, 200]
            .SelectMany(prefetch => Gen.Select(
            Gen.Const(prefetch), Gen.Int[1, prefetch], Gen.Int[0, prefetch], Gen.Int[0, prefetch]))
            .Where((_, _, unsettled, unstarted) => unstarted <= unsettled)
            .Sample((prefetch, parallel, unsettled, unstarted) =>
            {
                var fetch = Credit.ToFetch(prefetch, parallel, unsettled, unstarted);
                return fetch >= 0 && unsettled + fetch <= prefetch && (unstarted > 0 || fetch == prefetch - unsettled);
            });

    /// <summary>Two links share it: one that has nothing to give back must not ask again and again.</summary>
    [Fact]
    public void What_is_too_much_and_anothers_is_looked_at_again_only_once_more_has_changed()
    {
        var credit = NewCredit(4, parallel: 2);
        credit.Fetched(4);
        var (first, beside) = (credit.Attention(null), credit.TooMuch(null));
        Assert.Equal((false, false), (first.IsCompleted, beside.IsCompleted));
        credit.Pause(TimeSpan.FromMinutes(1));
        Assert.Equal((true, true), (first.IsCompleted, beside.IsCompleted));
        Assert.True(credit.Attention(null).IsCompleted);

        (first, beside) = (credit.Attention(credit.Changes), credit.TooMuch(credit.Changes));
        Assert.Equal((false, false), (first.IsCompleted, beside.IsCompleted));
        credit.Started();
        Assert.Equal((true, true), (first.IsCompleted, beside.IsCompleted));
    }

    [Theory]
    [InlineData(1, false, true, 1)]
    [InlineData(1, true, true, 1)]
    [InlineData(100, false, true, 50)]
    [InlineData(100, true, true, 50)]
    [InlineData(100, false, false, 1)]
    [InlineData(100, true, false, 12)]
    public void What_is_finished_goes_together_unless_a_handler_needs_what_comes_with_it(
        int prefetch, bool bringsByItself, bool hasMore, int worth)
    {
        var credit = NewCredit(prefetch);
        if (hasMore) credit.Fetched(1);

        Assert.Equal(worth, Math.Max(1, credit.WorthSettling(bringsByItself)));
    }

    private static Credit NewCredit(Prefetch prefetch, int parallel = 1, TimeProvider? clock = null) =>
        new(prefetch, parallel, batch: 1, clock ?? TimeProvider.System);

    /// <summary>A clock of tests runs what waits for it, which may wait for the credit of another thread.</summary>
    [Fact]
    public void The_clock_is_asked_outside_of_the_lock()
    {
        var clock = new AskingClock();
        var credit = NewCredit(Prefetch.SelfTuned, parallel: 2, clock);
        clock.Asked = () => Assert.True(
            Task.Run(() => credit.Now).Wait(TimeSpan.FromSeconds(10)), "the lock is held while the clock is asked");
        credit.Fetched(4);
        credit.Started();
        credit.Pause(TimeSpan.FromMinutes(1));
        _ = (credit.Limit, credit.NeededNow, credit.Surplus, credit.Attention(null), credit.PausedFor,
            credit.WorthFetching(settling: 1), credit.IsAtWork(TimeSpan.FromSeconds(1)));
        credit.Returned();
        credit.Stuck(1);
        credit.Handled(TimeSpan.FromSeconds(1), 1);
        credit.Settled(1);
        Assert.InRange(clock.Times, 12, 30);
    }

    private sealed class AskingClock : TimeProvider
    {
        public Action? Asked { get; set; }

        public int Times { get; private set; }

        public override long GetTimestamp()
        {
            if (Asked is null) return base.GetTimestamp();
            Times++;
            Asked();
            return base.GetTimestamp();
        }
    }

    [Fact]
    public async Task Fetching_at_once_begins_when_nothing_lies_ready_and_there_is_room()
    {
        var credit = NewCredit(4, parallel: 2);
        Assert.Equal((4, true), (credit.NeededNow, credit.Attention(null).IsCompleted));
        credit.Fetched(3);
        credit.Started();
        credit.Started();
        Assert.Equal((0, 2), (credit.NeededNow, credit.WorthFetching(settling: 1)));
        var attention = credit.Attention(null);
        Assert.False(attention.IsCompleted);
        credit.Started();
        await attention.WaitAsync(TimeSpan.FromMinutes(4));
        Assert.Equal(1, credit.NeededNow);
        credit.Settled(3);
        Assert.Equal(4, credit.NeededNow);
    }

    [Fact]
    public void With_everything_in_hand_nothing_is_fetched()
    {
        var credit = NewCredit(1);
        credit.Fetched(1);
        credit.Started();
        Assert.Equal(
            (0, false, 1), (credit.NeededNow, credit.Attention(null).IsCompleted, credit.WorthFetching(settling: 1)));
    }

    [Fact]
    public void Without_a_limit_it_always_asks_for_another_helping()
    {
        var credit = NewCredit(Prefetch.Unlimited);
        for (var i = 0; i < 20; i++) credit.Fetched(credit.NeededNow);
        Assert.Equal((Credit.LargestHelping, 0), (credit.NeededNow, credit.Surplus));
        credit.Fetched(credit.NeededNow - 1);
        Assert.Equal((Credit.FirstHelping, 0), (credit.NeededNow, credit.Surplus));
    }

    [Fact]
    public async Task While_no_handler_ends_nothing_is_held_that_others_could_begin()
    {
        var credit = NewCredit(10, parallel: 2);
        credit.Fetched(10);
        credit.Started();
        credit.Started();
        credit.Stuck(1);
        Assert.Equal((0, 0), (credit.Surplus, credit.NeededNow));
        var attention = credit.Attention(null);
        credit.Settled(2);
        credit.Stuck(1);
        await attention.WaitAsync(TimeSpan.FromMinutes(4));
        Assert.Equal((8, 0, 0), (credit.Surplus, credit.NeededNow, credit.WorthFetching(0)));
        credit.Stuck(-1);
        Assert.Equal(0, credit.Surplus);
    }

    [Fact]
    public void After_a_refusal_deliveries_are_fetched_one_by_one_until_they_are_trusted_again()
    {
        var credit = NewCredit(10, parallel: 4);
        credit.Fetched(3);
        credit.Started();
        credit.Started();
        credit.Started();
        credit.Refused(7);
        credit.Settled(7);
        Assert.Equal((0, 0), (credit.NeededNow, credit.WorthFetching(2)));
        Assert.Equal(1, credit.WorthFetching(3));
        credit.Settled(3);
        Assert.Equal(1, credit.NeededNow);
        credit.Fetched(1, alone: true);
        credit.Started();
        Assert.Equal((0, 1), (credit.NeededNow, credit.WorthFetching(1)));
        credit.Settled(1);
        credit.Fetched(1);
        credit.Started();
        Assert.Equal(9, credit.NeededNow);
    }

    [Fact]
    public void A_self_tuned_worker_gives_back_what_waits_behind_unexpectedly_long_work()
    {
        var clock = new FakeTimeProvider();
        var credit = NewCredit(Prefetch.SelfTuned, clock: clock);
        for (var i = 0; i < 100; i++)
        {
            credit.Fetched(1);
            credit.Started();
            credit.Handled(TimeSpan.FromMicroseconds(50), 1);
            credit.Settled(1);
            credit.Exchanged(TimeSpan.FromMilliseconds(1));
            // That nothing runs while the next are fetched says nothing about the work.
            clock.Advance(TimeSpan.FromMilliseconds(10));
        }
        var held = credit.NeededNow;
        Assert.InRange(held, 200, 400);
        credit.Fetched(held);
        credit.Started();
        Assert.Equal(0, credit.Surplus);
        clock.Advance(TimeSpan.FromMilliseconds(100));
        Assert.Equal(held - 1, credit.Surplus);
        for (var i = 1; i < held; i++) credit.TakenBack();
        credit.Settled(held - 1);
        Assert.Equal((0, 0), (credit.Surplus, credit.NeededNow));
    }

    [Fact]
    public void In_a_pause_nothing_is_fetched_what_lies_ready_goes_and_after_it_there_is_a_helping_to_try()
    {
        var clock = new FakeTimeProvider();
        var credit = NewCredit(5, parallel: 2, clock);
        credit.Fetched(5);
        credit.Started();
        credit.Pause(TimeSpan.FromSeconds(10));
        Assert.Equal((4, 0, TimeSpan.FromSeconds(10)), (credit.Surplus, credit.NeededNow, credit.PausedFor));
        for (var i = 0; i < 4; i++) credit.TakenBack();
        // They are not fetched again in the very exchange in which they go.
        Assert.Equal((0, 0, 0), (credit.Surplus, credit.NeededNow, credit.WorthFetching(settling: 4)));
        credit.Settled(4);
        Assert.Equal(0, credit.NeededNow);

        clock.Advance(TimeSpan.FromSeconds(10));
        Assert.Equal((5, null), (credit.NeededNow, credit.PausedFor));
        credit.Fetched(5);
        Assert.Equal((0, 0), (credit.NeededNow, credit.Surplus));
        // What another handler has finished meanwhile takes nothing from those that may be tried.
        credit.Handled(TimeSpan.Zero, 1);
        Assert.Equal(0, credit.Surplus);
        // One is tried, and the others go.
        credit.Started();
        credit.Pause(TimeSpan.FromSeconds(10));
        Assert.Equal(4, credit.Surplus);
        credit.Pause(null);
        Assert.Equal(1, credit.Surplus);
    }
}
