using CsCheck;
using GentleCourier.Engines;
using GentleCourier.Receiving.Handling;

namespace GentleCourier.Tests;

public sealed class CreditTests
{
    private static readonly TimeSpan Start = TimeSpan.FromMinutes(1);

    /// <summary>However busy the one is, there is a place for the other, and no more than one.</summary>
    [Fact]
    public void Of_two_links_the_one_cannot_take_all_places_where_there_are_more_than_are_in_work() => Gen.Select(
        Gen.Int[1, 9], Gen.Int[1, 3], Gen.Int[0, 3].Array[0, 60]).Sample((limit, parallel, steps) =>
    {
        var credit = new Credit(limit, parallel, 1);
        var now = new Holding();
        _ = credit.NeededBeside(now, Start);
        foreach (var step in steps)
        {
            if (step is 0 or 3)
            {
                var fetched = step == 0 ? credit.NeededNow(now, Start) : credit.NeededBeside(now, Start);
                now = now with { Held = now.Held + fetched, Ready = now.Ready + fetched };
            }
            else if (step == 1 && now.Ready > 0 && now.Running < parallel)
            {
                now = now with { Ready = now.Ready - 1, Running = now.Running + 1 };
            }
            else if (now.Running > 0)
            {
                now = now with { Running = now.Running - 1 };
                var fetched = credit.WorthFetching(now, 1, Start);
                now = now with { Held = now.Held - 1 + fetched, Ready = now.Ready + fetched };
            }
            Assert.Equal(
                now.Held <= limit && (limit > parallel || now.Held < limit)
                    ? now.Ready == 0 ? Math.Max(1, limit - now.Held) : 1 : 0,
                credit.NeededBeside(now, Start));
            Assert.InRange(now.Held, 0, limit > parallel ? limit + 1 : limit);
            Assert.Equal(0, credit.Surplus(now, Start));
        }
    });

    [Fact]
    public void Never_more_is_asked_for_than_the_prefetch_has_room_for_and_an_idle_handler_is_never_left_without() =>
        Gen.Int[1, 200]
            .SelectMany(prefetch => Gen.Select(
            Gen.Const(prefetch), Gen.Int[1, prefetch], Gen.Int[0, prefetch], Gen.Int[0, prefetch]))
            .Where((_, _, held, ready) => ready <= held)
            .Sample((prefetch, parallel, held, ready) =>
            {
                var fetch = Credit.ToFetch(prefetch, parallel, held, ready);
                return fetch >= 0 && held + fetch <= prefetch && (ready > 0 || fetch == prefetch - held);
            });

    [Theory]
    [InlineData(1, false, true, 1)]
    [InlineData(1, true, true, 1)]
    [InlineData(100, false, true, 50)]
    [InlineData(100, true, true, 50)]
    [InlineData(100, false, false, 1)]
    [InlineData(100, true, false, 12)]
    public void What_is_finished_goes_together_unless_a_handler_needs_what_comes_with_it(
        int prefetch, bool bringsByItself, bool hasMore, int worth) => Assert.Equal(
        worth, Math.Max(1, NewCredit(prefetch).WorthSettling(new(1, hasMore ? 1 : 0, 0), Start, bringsByItself)));

    private static Credit NewCredit(Prefetch prefetch, int parallel = 1) => new(prefetch, parallel, batch: 1);

    [Fact]
    public void Fetching_at_once_begins_when_nothing_lies_ready_and_there_is_room()
    {
        var credit = NewCredit(4, parallel: 2);
        Assert.Equal(4, credit.NeededNow(default, Start));
        Assert.Equal((0, 2), (credit.NeededNow(new(3, 1, 2), Start), credit.WorthFetching(new(3, 1, 2), 1, Start)));
        Assert.Equal(1, credit.NeededNow(new(3, 0, 2), Start));
        // All is in hand.
        Assert.Equal((0, 1), (credit.NeededNow(new(4, 0, 2), Start), credit.WorthFetching(new(4, 0, 2), 1, Start)));
    }

    [Fact]
    public void Without_a_limit_it_always_asks_for_another_helping()
    {
        var credit = NewCredit(Prefetch.Unlimited);
        var now = new Holding();
        for (var i = 0; i < 20; i++)
        {
            var helping = credit.NeededNow(now, Start);
            credit.Fetched(helping, alone: false);
            now = now with { Held = now.Held + helping, Ready = now.Ready + helping };
        }
        Assert.Equal((Credit.LargestHelping, 0), (credit.NeededNow(now, Start), credit.Surplus(now, Start)));
        credit.Fetched(credit.NeededNow(now, Start) - 1, alone: false);
        Assert.Equal((Credit.FirstHelping, 0), (credit.NeededNow(now, Start), credit.Surplus(now, Start)));
    }

    /// <summary>Where somebody has said a number, that is it, however large they are.</summary>
    [Fact]
    public void Without_a_number_what_is_held_is_bounded_by_its_bytes()
    {
        var full = new Holding(70, 0, 0) { Bytes = Budget.HeldBytes };
        foreach (var prefetch in (Prefetch[])[Prefetch.Unlimited, Prefetch.SelfTuned])
        {
            var credit = new Credit(prefetch, 1, 1);
            credit.Handled(TimeSpan.FromMilliseconds(0.1), 1, Start);
            credit.Exchanged(TimeSpan.FromMilliseconds(10));
            Assert.Equal((0, 0, 0), (credit.NeededNow(full, Start), credit.WorthFetching(full, 5, Start),
                credit.NeededBeside(full, Start)));
            Assert.Equal(0, credit.Surplus(full, Start));
            Assert.NotEqual(0, credit.NeededNow(full with { Bytes = Budget.HeldBytes - 1 }, Start));
        }
        Assert.Equal(30, NewCredit(100).NeededNow(full, Start));
    }

    [Fact]
    public void While_no_handler_ends_nothing_is_held_that_others_could_begin()
    {
        var credit = NewCredit(10, parallel: 2);
        var now = new Holding(10, 8, 2);
        credit.Stuck(1);
        Assert.Equal((0, 0), (credit.Surplus(now, Start), credit.NeededNow(now, Start)));
        credit.Stuck(1);
        now = now with { Held = 8 };
        Assert.Equal(
            (8, 0, 0),
            (credit.Surplus(now, Start), credit.NeededNow(now, Start), credit.WorthFetching(now, 0, Start)));
        credit.Stuck(-1);
        Assert.Equal(0, credit.Surplus(now, Start));
    }

    [Fact]
    public void After_a_refusal_deliveries_are_fetched_one_by_one_until_they_are_trusted_again()
    {
        var credit = NewCredit(10, parallel: 4);
        credit.Refused();
        Assert.Equal(
            (0, 0, 1), (credit.NeededNow(new(3, 0, 3), Start), credit.WorthFetching(new(3, 0, 3), 2, Start),
                credit.WorthFetching(new(3, 0, 3), 3, Start)));
        Assert.Equal(1, credit.NeededNow(default, Start));
        credit.Fetched(1, alone: true);
        Assert.Equal(
            (0, 1), (credit.NeededNow(new(1, 0, 1), Start), credit.WorthFetching(new(1, 0, 1), 1, Start)));
        credit.Fetched(1, alone: false);
        Assert.Equal(9, credit.NeededNow(new(1, 0, 1), Start));
    }

    [Fact]
    public void A_self_tuned_worker_gives_back_what_waits_behind_unexpectedly_long_work()
    {
        var credit = NewCredit(Prefetch.SelfTuned);
        var now = Start;
        for (var i = 0; i < 100; i++)
        {
            credit.Started(now);
            credit.Handled(TimeSpan.FromMicroseconds(50), 1, now);
            credit.Exchanged(TimeSpan.FromMilliseconds(1));
            // That nothing runs while the next are fetched says nothing about the work.
            now += TimeSpan.FromMilliseconds(10);
        }
        var held = credit.NeededNow(default, now);
        Assert.InRange(held, 200, 400);
        credit.Started(now);
        Assert.Equal(0, credit.Surplus(new(held, held - 1, 1), now));
        now += TimeSpan.FromMilliseconds(100);
        Assert.Equal(held - 1, credit.Surplus(new(held, held - 1, 1), now));
        Assert.Equal((0, 0), (credit.Surplus(new(1, 0, 1), now), credit.NeededNow(new(1, 0, 1), now)));
    }

    [Fact]
    public void In_a_pause_nothing_is_fetched_what_lies_ready_goes_and_after_it_there_is_a_helping_to_try()
    {
        var credit = NewCredit(5, parallel: 2);
        var (now, pause) = (Start, TimeSpan.FromSeconds(10));
        credit.Pause(now + pause);
        Assert.Equal(
            (4, 0, pause), (credit.Surplus(new(5, 4, 1), now), credit.NeededNow(new(5, 4, 1), now),
                credit.PausedFor(now)));
        // They are not fetched again in the very exchange in which they go.
        Assert.Equal(
            (0, 0, 0), (credit.Surplus(new(5, 0, 1), now), credit.NeededNow(new(5, 0, 1), now),
                credit.WorthFetching(new(5, 0, 1), 4, now)));
        Assert.Equal(0, credit.NeededNow(new(1, 0, 1), now));

        now += pause;
        Assert.Equal((5, null), (credit.NeededNow(new(1, 0, 1), now), credit.PausedFor(now)));
        Assert.Equal((0, 0), (credit.NeededNow(new(6, 5, 1), now), credit.Surplus(new(6, 5, 1), now)));
        // What another handler has finished meanwhile takes nothing from those that may be tried.
        Assert.Equal(0, credit.Surplus(new(6, 5, 0), now));
        // One is tried, and the others go.
        credit.Pause(now + pause);
        Assert.Equal(4, credit.Surplus(new(6, 4, 1), now));
        credit.Pause(null);
        Assert.Equal(1, credit.Surplus(new(6, 4, 1), now));
    }
}
