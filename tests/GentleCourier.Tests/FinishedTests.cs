using GentleCourier.Engines;
using GentleCourier.Receiving.Handling;

namespace GentleCourier.Tests;

public sealed class FinishedTests
{
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(4);

    private readonly List<Settlement> batch = [];

    private static Settlement Next => new(new Nothing(), Outcome.Accepted);

    [Fact]
    public async Task It_is_time_as_soon_as_so_many_have_come_as_are_worth_it()
    {
        using var finished = new Finished(() => 2);
        finished.TakeInto(batch);
        var due = finished.Due;

        Parallel.For(0, 2, _ => finished.Add(Next));

        await due.WaitAsync(Limit, TestContext.Current.CancellationToken);
        finished.TakeInto(batch);
        Assert.Equal(2, batch.Count);
        Assert.False(finished.IsDue);
    }

    /// <summary>However few there are, and whoever asks first: the loop, or the handler that has finished.</summary>
    [Theory, InlineData(true), InlineData(false)]
    public async Task A_few_do_not_wait_for_more_for_long(bool isAskedFirst)
    {
        using var finished = new Finished(() => int.MaxValue);
        finished.TakeInto(batch);
        var asked = isAskedFirst ? finished.Due : null;

        finished.Add(Next);

        await (asked ?? finished.Due).WaitAsync(Limit, TestContext.Current.CancellationToken);
        Assert.True(finished.IsDue);
    }

    [Fact]
    public void What_comes_when_nobody_waits_any_more_troubles_nobody()
    {
        var finished = new Finished(() => 1);
        _ = finished.Due;
        finished.Dispose();

        finished.Add(Next);

        finished.TakeInto(batch);
        Assert.Single(batch);
    }

    private sealed class Nothing() : HandOver(default, 1, 0);
}
