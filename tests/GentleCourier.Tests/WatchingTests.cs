using CsCheck;
using GentleCourier.Watching;

namespace GentleCourier.Tests;

/// <summary>Rates, forecasts, workers needed and percentiles: laws, and simulated queues.</summary>
public sealed class WatchingTests
{
    private static readonly DateTimeOffset Start = DateTimeOffset.UnixEpoch;

    private static QueueCounts At(double seconds, long came, long accepted = 0, long failed = 0, long aside = 0) =>
        new(Start.AddSeconds(seconds), came, accepted, failed, aside);

    [Fact]
    public void Rates_are_what_happened_by_the_time_it_took()
    {
        var rates = QueueRates.Of([At(0, 0), At(10, 50, 20, 5, 1), At(20, 100, 60, 9, 2)])!;
        Assert.Equal((TimeSpan.FromSeconds(20), 5, 3, 0.45, 0.1),
            (rates.Over, rates.Arrivals, rates.Handled, rates.Failed, rates.SetAside));
        Assert.Equal(1.9, rates.Growth, 9);
        Assert.Null(QueueRates.Of([]));
        Assert.Null(QueueRates.Of([At(0, 7), At(0, 7)]));
    }

    [Fact]
    public void A_gap_loses_nothing_and_old_counts_say_what_new_ones_cannot()
    {
        // Nobody wrote counts down for an hour.
        Assert.Equal((3600, 2), Rates([At(0, 0), At(3600, 7200)]));
        // Where there are counts of the last minutes, the hour before does not matter.
        Assert.Equal((10, 5), Rates([At(0, 0), At(3600, 7200), At(3610, 7250)]));

        static (double, double) Rates(QueueCounts[] counts) =>
            (QueueRates.Of(counts)!.Over.TotalSeconds, QueueRates.Of(counts)!.Arrivals);
    }

    [Fact]
    public void Counts_that_begin_anew_are_left_out()
    {
        var rates = QueueRates.Of([At(0, 900, 900), At(10, 1000, 1000), At(20, 30, 10), At(30, 80, 60)])!;
        Assert.Equal((20, 7.5, 7.5), (rates.Over.TotalSeconds, rates.Arrivals, rates.Handled));
    }

    [Fact]
    public void Rates_do_not_depend_on_how_often_one_looked() =>
        Gen.Select(Gen.Int[0, 200].Array[2, 15], Gen.Int[0, 12]).Sample((steps, left) =>
        {
            var sums = steps.Select((_, i) => At(10 * i, steps.Take(i + 1).Sum(), steps.Take(i).Sum())).ToList();
            var fewer = sums.Where((_, i) => i == 0 || i == sums.Count - 1 || i % (left + 1) == 0).ToList();
            var (all, some) = (QueueRates.Of(sums)!, QueueRates.Of(fewer)!);
            return Math.Abs(all.Arrivals - some.Arrivals) < 1e-9 && Math.Abs(all.Growth - some.Growth) < 1e-9;
        });

    /// <summary>A queue whose events come and are handled at random.</summary>
    private sealed class SimulatedQueue(int seed, double arrivals, double handlingSeconds, int handlers, long backlog)
    {
        private readonly PCG random = new(1, (ulong)seed);
        private readonly List<QueueCounts> history = [];
        private double now;
        private long came = backlog, accepted;

        public long Waiting => came - accepted;

        public List<QueueCounts> Watched(double seconds)
        {
            history.Add(At(0, came));
            for (var at = 10.0; at <= seconds; at += 10)
            {
                RunUntil(at);
                history.Add(At(at, came, accepted));
            }
            return history;
        }

        /// <summary>Nothing waits but what is being handled.</summary>
        public double EmptyAfter()
        {
            var began = now;
            while (Waiting > handlers && now - began < 1e6) RunUntil(now + 0.5);
            return now - began;
        }

        /// <summary>Exponential times between arrivals, and between ends of handlers while something waits.</summary>
        private void RunUntil(double until)
        {
            while (true)
            {
                var handled = Waiting == 0 ? 0 : Math.Min(handlers, Waiting) / handlingSeconds;
                var step = -Math.Log(1 - Next()) / (arrivals + handled);
                if (now + step > until) break;
                now += step;
                if (Next() * (arrivals + handled) < arrivals) came++;
                else accepted++;
            }
            now = until;
        }

        private double Next() => random.Next() / 4294967296.0;
    }

    /// <summary>
    /// 200 queues with enough workers: the forecast says nine times in ten where the true time lies. Of 200 trials of a
    /// chance of 0.9 fewer than 165 or more than 196 come out less than once in ten thousand times.
    /// </summary>
    [Fact]
    public void A_queue_is_empty_when_the_forecast_says()
    {
        var (right, widths) = (0, new List<double>());
        for (var seed = 0; seed < 200; seed++)
        {
            var random = new Random(seed);
            var handlers = random.Next(2, 12);
            var most = handlers / 0.2;
            var queue = new SimulatedQueue(
                seed, most * (0.3 + (0.5 * random.NextDouble())), 0.2, handlers,
                (long)(most * random.Next(250, 1_500)));
            var rates = QueueRates.Of(queue.Watched(180));
            var forecast = DrainForecast.Of(queue.Waiting, rates);
            Assert.Equal(Outlook.Drains, forecast.Outlook);
            Assert.True(forecast.Soonest <= forecast.About && !(forecast.Latest < forecast.About),
                $"{forecast.Soonest} {forecast.About} {forecast.Latest}");
            var truth = queue.EmptyAfter();
            if (truth >= forecast.Soonest!.Value.TotalSeconds && !(truth > forecast.Latest?.TotalSeconds)) right++;
            widths.Add((forecast.Latest - forecast.Soonest) / forecast.About ?? double.PositiveInfinity);
        }
        Assert.InRange(right, 165, 196);
        // A band that says nothing would be right as well.
        Assert.True(widths.Order().ElementAt(100) < 0.5, $"half of the bands are {widths.Order().ElementAt(100):0.00}");
        TestContext.Current.TestOutputHelper?.WriteLine($"{right} of 200 lay within; median width "
            + $"{widths.Order().ElementAt(100):0.00}");
    }

    [Fact]
    public void A_producer_faster_than_its_workers_is_never_caught_up_with_unless_there_are_more()
    {
        // 2 workers of 2 handlers, 0.1 s each: 40 a second of 90 that come.
        var queue = new SimulatedQueue(7, 90, 0.1, 4, 500);
        var history = queue.Watched(180);
        Assert.Equal(Outlook.Grows, DrainForecast.Of(queue.Waiting, QueueRates.Of(history)).Outlook);
        var receiver = new ReceiverFigures("fares", ["boarded"], "20", 2);
        var status = new QueueStatus(
            new QueueFigures("fares", queue.Waiting, 4, 0, 0, null) { History = history }, [receiver, receiver]);
        var enough = new SimulatedQueue(8, 90, 0.1, 2 * status.WorkersNeeded!.Value, queue.Waiting);
        Assert.Equal(Outlook.Drains, DrainForecast.Of(queue.Waiting, QueueRates.Of(enough.Watched(120))).Outlook);
        // It says how soon, and that is so within a tenth.
        Assert.InRange(120 + enough.EmptyAfter(), 60, 1.1 * QueueStatus.GoodTime.TotalSeconds);
        // With one fewer than what comes takes, it would still grow.
        var few = new SimulatedQueue(9, 90, 0.1, 8, queue.Waiting);
        Assert.Equal(Outlook.Grows, DrainForecast.Of(queue.Waiting, QueueRates.Of(few.Watched(180))).Outlook);
    }

    [Fact]
    public void What_is_unknown_stays_unknown()
    {
        Assert.Equal(Outlook.KeepsUp, DrainForecast.Of(0, null).Outlook);
        Assert.Equal(Outlook.Unknown, DrainForecast.Of(9, null).Outlook);
        // Three intervals say nothing of how much they vary.
        QueueCounts[] counts = [At(0, 900), At(10, 900, 100), At(20, 900, 200), At(30, 900, 300), At(40, 900, 400)];
        Assert.Equal(Outlook.Unknown, DrainForecast.Of(600, QueueRates.Of(counts[..4])).Outlook);
        var forecast = DrainForecast.Of(500, QueueRates.Of(counts));
        Assert.Equal((Outlook.Drains, 50), (forecast.Outlook, (int)forecast.About!.Value.TotalSeconds));
        // What is handled within seconds is no backlog.
        Assert.Equal(Outlook.KeepsUp, DrainForecast.Of(40, QueueRates.Of(counts)).Outlook);
        var status = new QueueStatus(new QueueFigures("fares", null, null, null, null, null), null);
        Assert.Equal((null, null, null, null, Outlook.Unknown), (
            status.Rates, status.Lag, status.Utilisation, status.WorkersNeeded, status.Forecast.Outlook));
    }

    [Fact]
    public void Lag_is_backlog_by_rate()
    {
        QueueCounts[] counts = [At(0, 0), At(60, 1200, 600)];
        Assert.Equal(60, Lag(600, counts)!.Value.TotalSeconds, 6);
        Assert.Equal(TimeSpan.Zero, Lag(0, []));
        Assert.Null(Lag(600, [At(0, 0), At(60, 600)]));
        // What others handled before they left says nothing of what is to come.
        Assert.Null(Lag(600, counts, []));

        static TimeSpan? Lag(long ready, QueueCounts[] counts, ReceiverFigures[]? receivers = null) =>
            new QueueStatus(new QueueFigures("fares", ready, 0, 0, 0, null) { History = counts }, receivers).Lag;
    }

    [Fact]
    public void Workers_needed_are_more_than_are_busy_and_never_fewer_for_more_work() =>
        Gen.Select(Gen.Double[0, 5_000], Gen.Double[0, 500], Gen.Double[0.0001, 20], Gen.Int[0, 1_000_000]).Sample(
            (arrivals, more, seconds, waiting) =>
            {
                var handling = TimeSpan.FromSeconds(seconds);
                var lag = TimeSpan.FromMinutes(5);
                var needed = WorkersNeeded.For(arrivals, handling, waiting, lag);
                // Little's law, and room for the backlog.
                return needed > arrivals * handling.TotalSeconds
                    && needed >= WorkersNeeded.For(arrivals, handling, 0, lag)
                    && WorkersNeeded.For(arrivals + more, handling, waiting, lag) >= needed
                    && WorkersNeeded.For(arrivals, 2 * handling, waiting, lag) >= needed;
            });

    private static readonly Gen<double[]> Times = Gen.Double[0.001, 5_000_000].Array[0, 200];

    private static Histogram Of(IEnumerable<double> milliseconds)
    {
        var times = new RecentTimes(TimeProvider.System);
        foreach (var time in milliseconds)
            times.Add(TimeSpan.FromMilliseconds(time), 1, TimeProvider.System.GetTimestamp());
        return times.Now;
    }

    [Fact]
    public void Merged_histograms_are_those_of_all() =>
        Gen.Select(Times, Times, Times).Sample((a, b, c) =>
            Of(a).With(Of(b)).With(Of(c)).Equals(Of([.. a, .. b, .. c])) && Of(a).With(Of(b)).Equals(Of(b).With(Of(a)))
            && Of(a).With(Of(b)).Count == a.Length + b.Length && Of(a).With(Histogram.Empty).Equals(Of(a)));

    [Fact]
    public void Percentiles_are_right_to_within_a_tenth() =>
        Gen.Select(Times.Where(t => t.Length > 0), Gen.Double[0, 1]).Sample((times, share) =>
        {
            var exact = times.Order().ElementAt(Math.Max(0, (int)Math.Ceiling(times.Length * share) - 1));
            var found = Of(times).Percentile(share)!.Value.TotalMilliseconds;
            return Math.Abs(found - exact) <= (0.1 * exact) + 0.0001;
        });

    [Fact]
    public void Times_of_long_ago_are_forgotten()
    {
        var clock = new Microsoft.Extensions.Time.Testing.FakeTimeProvider();
        var times = new RecentTimes(clock);
        times.Add(TimeSpan.FromSeconds(1), 3, clock.GetTimestamp());
        clock.Advance(TimeSpan.FromMinutes(6));
        times.Add(TimeSpan.FromSeconds(9), 1, clock.GetTimestamp());
        Assert.Equal(4, times.Now.Count);
        clock.Advance(TimeSpan.FromMinutes(6));
        Assert.Equal(1, times.Now.Count);
        Assert.Equal(9, times.Now.Mean!.Value.TotalSeconds, 0.9);
        clock.Advance(TimeSpan.FromMinutes(30));
        Assert.Equal(0, times.Now.Count);
        Assert.Null(times.Now.Percentile(0.5));
    }
}
