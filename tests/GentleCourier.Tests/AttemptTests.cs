using GentleCourier.Receiving.Handling;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Tests;

public sealed class AttemptTests
{
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(4);

    private readonly FakeTimeProvider clock = new();
    private int overruns;

    private Attempt Begin() => new(Limit, () => overruns++, clock, CancellationToken.None);

    /// <summary>Its place would be counted as taken for ever: nobody would say that it has ended.</summary>
    [Fact]
    public void What_has_ended_is_not_reported_to_run_on_whatever_the_timer_still_does()
    {
        using var attempt = Begin();
        clock.Advance(Limit);
        Assert.Equal(Cut.TimeLimit, attempt.Cut);
        Assert.False(attempt.End());
        clock.Advance(Attempt.TimeToEnd);
        Assert.Equal(0, overruns);
    }

    [Fact]
    public void What_runs_on_is_reported_once_and_says_so_when_it_ends()
    {
        using var attempt = Begin();
        clock.Advance(Limit + (3 * Attempt.TimeToEnd));
        Assert.Equal(1, overruns);
        Assert.True(attempt.End());
    }

    [Fact]
    public void What_is_committed_is_not_cut_short_any_more()
    {
        using var attempt = Begin();
        Assert.True(attempt.TryFinish());
        clock.Advance(Limit);
        attempt.CutShort(Cut.LeaseLost);
        Assert.Equal(Cut.None, attempt.Cut);
        Assert.False(attempt.Token.IsCancellationRequested);
    }
}
