using CsCheck;
using GentleCourier.Bench;

namespace GentleCourier.Tests;

public sealed class IntervalTests
{
    private static readonly Gen<double[]> Ratios = Gen.Double[0.1, 10].Array[1, 40];

    [Fact]
    public void The_median_is_within_and_nothing_is_beyond_what_was_measured() => Ratios.Sample(ratios =>
    {
        var interval = Interval.Of(ratios);
        return interval.Low <= interval.Median && interval.Median <= interval.High
            && interval.Low >= ratios.Min() && interval.High <= ratios.Max();
    });

    [Fact]
    public void What_order_it_was_measured_in_makes_no_difference() => Ratios.Sample(ratios =>
        Interval.Of(ratios) == Interval.Of(ratios.Reverse()));

    /// <summary>From a table of the sign test: the 6th smallest and the 6th largest of twenty.</summary>
    [Theory]
    [InlineData(5, 1)]
    [InlineData(6, 1)]
    [InlineData(9, 2)]
    [InlineData(20, 6)]
    [InlineData(40, 14)]
    public void Its_bounds_are_those_of_the_sign_test(int rounds, int rank)
    {
        var interval = Interval.Of(Enumerable.Range(1, rounds).Select(i => (double)i));
        Assert.Equal((rank, rounds + 1 - rank), ((int)interval.Low, (int)interval.High));
    }

    /// <summary>
    /// Ratios of 20 rounds whose true median is 1: the interval misses it five times in a hundred at the most.
    /// </summary>
    [Fact]
    public void The_true_median_is_hardly_ever_outside()
    {
        var random = new Random(20260614);
        var missed = Enumerable.Range(0, 5_000).Count(_ => Interval.Of(Enumerable.Range(0, 20).Select(
            _ => Math.Exp(random.NextDouble() < 0.5 ? -random.NextDouble() : random.NextDouble() * 3)))
            .TellsADifference);
        Assert.InRange(missed, 100, 250);
    }

    [Fact]
    public void Without_any_round_there_is_none() => Assert.Throws<ArgumentException>(() => Interval.Of([]));
}
