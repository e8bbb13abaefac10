using CsCheck;
using GentleCourier.Receiving.Handling;

namespace GentleCourier.Tests;

public sealed class PrefetchTunerTests
{
    private static TimeSpan Ms(double milliseconds) => TimeSpan.FromMicroseconds(milliseconds * 1000);

    private static PrefetchTuner Tuned(double handlingMs, double exchangeMs, int parallel = 1, int batch = 1)
    {
        var tuner = new PrefetchTuner(parallel, batch);
        for (var i = 0; i < 200; i++)
        {
            tuner.Handled(Ms(handlingMs * batch), batch);
            tuner.Exchanged(Ms(exchangeMs));
        }
        return tuner;
    }

    [Fact]
    public void It_stays_between_what_is_handled_at_once_and_its_cap_whatever_is_measured() =>
        Gen.Select(Gen.Double[0, 1e6], Gen.Double[0, 1e6], Gen.Int[1, 50], Gen.Int[1, 30], Gen.Double[0, 1e6])
            .Sample((handling, exchange, parallel, batch, stalled) =>
            {
                var limit = Tuned(handling, exchange, parallel, batch).Limit(Ms(stalled));
                return limit >= parallel * batch && limit <= Math.Max(PrefetchTuner.Most, parallel * batch);
            });

    [Fact]
    public void Longer_work_never_means_a_larger_prefetch() =>
        Gen.Select(Gen.Double[0.001, 1000], Gen.Double[0.1, 100], Gen.Int[1, 20], Gen.Double[1, 100])
            .Sample((handling, exchange, parallel, factor) =>
                Tuned(handling * factor, exchange, parallel).Limit(TimeSpan.Zero) <= Tuned(handling, exchange, parallel)
                    .Limit(TimeSpan.Zero));

    [Fact]
    public void What_it_holds_beyond_the_running_handlers_lasts_for_two_exchanges() =>
        Gen.Select(Gen.Double[0.05, 20], Gen.Double[0.5, 5], Gen.Int[1, 8]).Where((h, x, _) => x > 0.02 * h * 1.01)
            .Sample((handling, exchange, parallel) =>
            {
                var ready = Tuned(handling, exchange, parallel).Limit(TimeSpan.Zero) - parallel;
                return ready >= Math.Min(2 * exchange / (handling / parallel), PrefetchTuner.Most - parallel);
            });

    [Theory]
    [InlineData(500, 1, 1, 1)]
    [InlineData(500, 1, 4, 4)]
    [InlineData(51, 1, 3, 3)]
    public void For_long_work_nothing_waits_behind_a_busy_handler(
        double handlingMs, double exchangeMs, int parallel, int prefetch) =>
        Assert.Equal(prefetch, Tuned(handlingMs, exchangeMs, parallel).Limit(TimeSpan.Zero));

    [Fact]
    public void Before_anything_is_measured_each_handler_gets_one() =>
        Assert.Equal(6, new PrefetchTuner(parallel: 3, batch: 2).Limit(TimeSpan.Zero));

    /// <summary>Work that is held waits for longer than that anyway, and to give it back is dear.</summary>
    [Fact]
    public void A_pause_that_is_short_beside_an_exchange_changes_nothing_and_a_long_one_all()
    {
        var tuner = Tuned(handlingMs: 4, exchangeMs: 50);
        Assert.Equal(201, tuner.Limit(TimeSpan.Zero));
        Assert.Equal(201, tuner.Limit(Ms(390)));
        Assert.InRange(tuner.Limit(Ms(410)), 2, 3);
        Assert.Equal(1, tuner.Limit(Ms(2600)));
    }

    [Fact]
    public void It_forgets_what_was_long_ago()
    {
        var tuner = Tuned(handlingMs: 400, exchangeMs: 1);
        for (var i = 0; i < 100; i++) tuner.Handled(Ms(0.1), 1);
        Assert.InRange(tuner.Limit(TimeSpan.Zero), 100, 200);
    }
}
