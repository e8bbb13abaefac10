using CsCheck;

namespace GentleCourier.Tests;

public sealed class BackOffTests
{
    private static readonly Gen<TimeSpan> Times = Gen.Long[0, TimeSpan.FromDays(7).Ticks].Select(TimeSpan.FromTicks);

    [Fact]
    public void The_wait_lies_between_half_of_a_bound_and_all_of_it_and_that_never_exceeds_the_cap() =>
        Gen.Select(Gen.Int[1, int.MaxValue], Times, Times, Gen.Double[0, 1]).Sample((attempt, a, b, random) =>
        {
            var (first, longest) = a < b ? (a, b) : (b, a);
            var (delay, bound) = (
                BackOff.Delay(attempt, first, longest, random), BackOff.Bound(attempt, first, longest));
            return delay >= bound / 2 - TimeSpan.FromTicks(1) && delay <= bound && bound <= longest
                && (attempt > 1 || bound == first);
        });

    [Fact]
    public void The_bound_doubles_until_the_cap() =>
        Gen.Select(Gen.Int[1, 40], Gen.Long[1, 1000]).Sample((attempt, ms) =>
        {
            var first = TimeSpan.FromMilliseconds(ms);
            var (now, next) = (BackOff.Bound(attempt, first, TimeSpan.FromDays(7)),
                BackOff.Bound(attempt + 1, first, TimeSpan.FromDays(7)));
            return next == (now * 2 < TimeSpan.FromDays(7) ? now * 2 : TimeSpan.FromDays(7));
        });
}
