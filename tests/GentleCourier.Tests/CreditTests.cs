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
    public async Task Waiting_ends_when_there_is_room_again()
    {
        var credit = new Credit(prefetch: 4, parallel: 2);
        Assert.Equal(4, await credit.WaitAsync(CancellationToken.None));
        credit.Fetched(4);
        var waiting = credit.WaitAsync(CancellationToken.None);
        credit.Started();
        credit.Started();
        Assert.False(waiting.IsCompleted);
        credit.Settled(1);
        Assert.False(waiting.IsCompleted);
        credit.Started();
        Assert.Equal(1, await waiting.WaitAsync(TimeSpan.FromSeconds(10)));
        using var cancel = new CancellationTokenSource();
        credit.Fetched(1);
        var cancelled = credit.WaitAsync(cancel.Token);
        await cancel.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => cancelled);
    }
}
