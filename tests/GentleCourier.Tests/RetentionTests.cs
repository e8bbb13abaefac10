using CsCheck;
using GentleCourier.Housekeeping;

namespace GentleCourier.Tests;

public sealed class RetentionTests
{
    [Fact]
    public void Rounds_are_a_twentieth_of_the_time_apart_within_bounds_and_looks_and_rests_follow() =>
        Gen.Double[1, 1e7].Select(TimeSpan.FromMinutes).Sample(keep =>
        {
            var every = Rounds.Every(keep);
            Assert.InRange(every, TimeSpan.FromMinutes(1), TimeSpan.FromDays(1));
            if (keep > TimeSpan.FromMinutes(20)) Assert.True(every <= keep / 20);
            Assert.InRange(Rounds.Look(every), TimeSpan.FromSeconds(15), TimeSpan.FromMinutes(5));
            Assert.True(Rounds.Look(every) <= every / 4);
        });

    [Fact]
    public void Looking_takes_a_tenth_of_the_time_and_removing_a_third_and_none_rests_for_ever()
    {
        var step = TimeSpan.FromMilliseconds(10);
        Assert.Equal((9 * step, 2 * step), (Rounds.Rest(step, hasRemoved: false), Rounds.Rest(step, hasRemoved: true)));
        Assert.True(Rounds.Rest(TimeSpan.Zero, hasRemoved: true) > TimeSpan.Zero);
        Assert.Equal(TimeSpan.FromSeconds(10), Rounds.Rest(TimeSpan.FromHours(1), hasRemoved: false));
    }

    [Fact]
    public void The_shortest_safe_time_is_as_long_as_a_copy_may_still_be_tried()
    {
        var options = new ReceiverOptions
        {
            Patience = TimeSpan.FromHours(2), MaxAttempts = 5, RetriesAtOnce = 2,
            FirstDelay = TimeSpan.FromSeconds(1), MaxDelay = TimeSpan.FromMinutes(1),
        };
        Assert.Equal(new TimeSpan(2, 1, 1), RetentionOptions.ShortestSafe(options));
    }
}
