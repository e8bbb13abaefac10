using CsCheck;
using GentleCourier.Receiving;

namespace GentleCourier.Tests;

public sealed class CreditTests
{
    [Fact]
    public void Never_more_is_asked_for_than_the_prefetch_has_room_for_and_an_idle_handler_is_never_left_without() =>
        Gen.Int[1, 200].SelectMany(prefetch => Gen.Select(Gen.Const(prefetch), Gen.Int[1, prefetch], Gen.Int[0, prefetch], Gen.Int[0, prefetch]))
            .Where((_, _, unsettled, unstarted) => unstarted <= unsettled)
            .Sample((prefetch, parallel, unsettled, unstarted) =>
            {
                var fetch = Credit.ToFetch(prefetch, parallel, unsettled, unstarted);
                return fetch >= 0 && unsettled + fetch <= prefetch && (unstarted > 0 || fetch == prefetch - unsettled);
            });

    [Fact]
    public async Task Fetching_at_once_begins_when_nothing_lies_ready_and_there_is_room()
    {
        var credit = new Credit(prefetch: 4, parallel: 2);
        Assert.Equal((4, true), (credit.NeededNow, credit.UsedUp.IsCompleted));
        credit.Fetched(3);
        credit.Started();
        credit.Started();
        Assert.Equal((0, 2), (credit.NeededNow, credit.WorthFetching(settling: 1)));
        var usedUp = credit.UsedUp;
        Assert.False(usedUp.IsCompleted);
        credit.Started();
        await usedUp.WaitAsync(TimeSpan.FromSeconds(10));
        Assert.Equal(1, credit.NeededNow);
        credit.Settled(3);
        Assert.Equal(4, credit.NeededNow);
    }

    [Fact]
    public void With_everything_in_hand_nothing_is_fetched()
    {
        var credit = new Credit(prefetch: 1, parallel: 1);
        credit.Fetched(1);
        credit.Started();
        Assert.Equal((0, false, 1), (credit.NeededNow, credit.UsedUp.IsCompleted, credit.WorthFetching(settling: 1)));
    }
}
