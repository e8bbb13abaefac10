using CsCheck;
using GentleCourier.Watching;

namespace GentleCourier.Tests;

public sealed class OutageForecastTests
{
    private const double LookEvery = 10;

    /// <summary>
    /// A queue that is simulated event by event: some come by themselves, others in bursts, when a ferry lands;
    /// handlers take exponential times; for a while nobody handles anything.
    /// </summary>
    private sealed class SimulatedDay
    {
        private readonly Random random;
        private readonly int workers;
        private readonly double handling;
        private readonly List<double> came = [];

        public SimulatedDay(int seed)
        {
            random = new Random(seed);
            workers = random.Next(2, 7);
            handling = Between(0.3, 1.5);
            Load = Between(0.4, 0.8);
            Outage = Between(300, 2400);
        }

        public double Load { get; }

        public double Outage { get; }

        public int Workers => workers;

        /// <summary>
        /// Plays so much of the day that it is known, the outage, and what follows until all is gone.
        /// </summary>
        public (List<(double Seconds, double Came, double Busy, double Handled)> Known, long Waiting, double Peak,
            double Gone, double LongestWait) Play(double known, int workersAfter)
        {
            var end = known + Outage;
            var perSecond = Load * workers / handling;
            Arrive(perSecond, end + (15 * Outage));
            var free = new PriorityQueue<int, double>();
            for (var w = 0; w < workers; w++) free.Enqueue(w, 0);
            var waiting = 0L;
            var looks = new (double Came, double Busy, double Handled)[(int)(known / LookEvery)];
            foreach (var at in came.TakeWhile(t => t < known)) looks[(int)(at / LookEvery)].Came++;
            var (peak, longest, left, done) = (0L, 0.0, false, 0L);
            for (var i = 0; i < came.Count; i++)
            {
                free.TryDequeue(out var worker, out var begin);
                begin = Math.Max(begin, came[i]);
                var took = -Math.Log(1 - random.NextDouble()) * handling;
                if (begin + took > known && begin < end)
                {
                    // What is in hand is handed back; nobody takes it before the end.
                    if (!left)
                    {
                        left = true;
                        waiting = came.Count(t => t < known) - done;
                        peak = came.Count(t => t < end) - i;
                        free.Clear();
                        for (var w = 0; w < workersAfter; w++) free.Enqueue(w, end);
                        free.TryDequeue(out worker, out begin);
                    }
                    begin = Math.Max(end, begin);
                }
                if (begin > end && begin == came[i])
                    return (Looks(), waiting, peak, begin - known, longest);
                if (begin >= end) longest = Math.Max(longest, begin - came[i]);
                free.Enqueue(worker, begin + took);
                var ended = begin + took;
                for (var look = (int)(begin / LookEvery); look < looks.Length && look * LookEvery < ended; look++)
                    looks[look].Busy += Math.Min(ended, (look + 1) * LookEvery) - Math.Max(begin, look * LookEvery);
                if (begin + took > known) continue;
                looks[(int)((begin + took) / LookEvery)].Handled++;
                done++;
            }
            return (Looks(), waiting, peak, double.PositiveInfinity, longest);

            List<(double, double, double, double)> Looks() =>
                [.. looks.Select(l => (LookEvery, l.Came, l.Busy, l.Handled))];
        }

        private void Arrive(double perSecond, double until)
        {
            // Half of it in bursts of 10 to 30, within half a minute each.
            for (var t = 0.0; t < until; t += -Math.Log(1 - random.NextDouble()) / (perSecond / 2)) came.Add(t);
            for (var t = 0.0; t < until; t += -Math.Log(1 - random.NextDouble()) * 20 / (perSecond / 2))
                for (var burst = random.Next(10, 31); burst > 0; burst--) came.Add(t + Between(0, 30));
            came.Sort();
        }

        private double Between(double low, double high) => low + (random.NextDouble() * (high - low));
    }

    private static OutageForecast Of(
        List<(double Seconds, double Came, double Busy, double Handled)> known, int workers, long waiting,
        double outage) => new(
        Flow.Of([.. known.Select(k => (k.Seconds, k.Came))])!,
        Flow.Of([.. known.Where(k => k.Busy > 0).Select(k => (k.Busy, k.Handled))])!, workers, waiting, 0, outage);

    /// <summary>
    /// The bounds hold nine times in ten: of 200 trials of a chance of 0.9, no fewer than 167 succeed with a
    /// probability of 0.999.
    /// </summary>
    [Fact]
    public void What_it_says_of_two_hundred_days_is_so_as_often_as_it_says()
    {
        var (peaks, gone, waits, kept, narrow) = (0, 0, 0, 0, new List<double>());
        for (var seed = 0; seed < 200; seed++)
        {
            var day = new SimulatedDay(seed);
            var (known, now, peak, empty, longest) = day.Play(7200, day.Workers);
            var forecast = Of(known, day.Workers, now, day.Outage);
            var waiting = forecast.WaitingAt(forecast.Ends);
            if (peak >= waiting.Low && peak <= waiting.High) peaks++;
            if (forecast.Gone() is { } end && empty >= end.Low && !(empty > end.High)) gone++;
            if (longest <= (forecast.LongestWait().High ?? double.PositiveInfinity)) waits++;
            // With so many workers, the same day.
            var limit = 1.3 * day.Outage;
            var enough = forecast.WorkersFor(limit)!.Value;
            if (new SimulatedDay(seed).Play(7200, enough).LongestWait <= limit) kept++;
            narrow.Add((waiting.High!.Value - waiting.Low) / waiting.About);
        }
        narrow.Sort();
        TestContext.Current.TestOutputHelper?.WriteLine(
            $"of 200: most that waited {peaks}, end {gone}, longest wait {waits}, kept under a limit {kept}; median "
                + $"width {narrow[100]:0.00}");
        Assert.InRange(peaks, 167, 197);
        Assert.InRange(gone, 167, 200);
        Assert.InRange(waits, 167, 200);
        Assert.InRange(kept, 167, 200);
        // A band that holds everything says nothing.
        Assert.True(narrow[100] < 0.5);
    }

    private static readonly Gen<(double Come, double Handle, int Workers, long Waiting, double Begins, double Outage)>
        Plans = Gen.Select(Gen.Double[0, 200], Gen.Double[0.01, 50], Gen.Int[1, 50], Gen.Long[0, 100_000],
            Gen.Double[0, 7200], Gen.Double[0, 86_400]);

    private static OutageForecast Known(
        (double Come, double Handle, int Workers, long Waiting, double Begins, double Outage) p) =>
        new(Flow.Of(p.Come), Flow.Of(p.Handle), p.Workers, p.Waiting, p.Begins, p.Outage);

    [Fact]
    public void More_workers_are_never_later_and_a_longer_outage_never_leaves_less() => Plans.Sample(plan =>
    {
        var forecast = Known(plan);
        var more = Known(plan with { Workers = plan.Workers + 1 });
        var longer = Known(plan with { Outage = plan.Outage + 60 });
        var waiting = forecast.WaitingAt(forecast.Ends);
        Assert.True(waiting.Low <= waiting.About && waiting.About <= waiting.High);
        Assert.True(longer.WaitingAt(longer.Ends).About >= waiting.About - 1e-6);
        if (forecast.Gone() is not { } gone) return;
        Assert.True(gone.Low <= gone.About + 0.2 && !(gone.About > gone.High + 0.2));
        Assert.True(more.Gone()!.Value.About <= gone.About + 0.2);
        Assert.True(forecast.CatchesUp || gone.About <= forecast.Ends);
    });

    [Fact]
    public void So_many_workers_keep_the_wait_under_the_limit_and_not_one_fewer() =>
        Plans.Where(p => p.Come / p.Handle < 30).Sample(plan =>
        {
            var forecast = Known(plan);
            var limit = (plan.Outage * 1.5) + 60;
            Assert.Null(forecast.WorkersFor(plan.Outage));
            if (forecast.WorkersFor(limit) is not { } enough || enough > 40) return;
            var with = Known(plan with { Workers = enough });
            Assert.True(with.CatchesUp && with.LongestWait().High <= limit);
            if (enough == 1) return;
            var fewer = Known(plan with { Workers = enough - 1 });
            Assert.True(!fewer.CatchesUp || fewer.LongestWait().High > limit);
        });

    /// <summary>Of what comes evenly, by itself or in lumps, the rate is known and how rough it is.</summary>
    [Fact]
    public void A_flow_is_as_rough_as_its_lumps_are_large()
    {
        var random = new Random(614);
        foreach (var lump in new[] { 1, 5, 20 })
        {
            var counts = Enumerable.Range(0, 4000).Select(_ => (1.0, (double)Enumerable.Range(0, 40)
                .Count(_ => random.NextDouble() < 0.05) * lump)).ToList();
            var flow = Flow.Of(counts)!;
            Assert.InRange(flow.PerSecond, 1.9 * lump, 2.1 * lump);
            // Of twenty blocks a variance is known to half of itself, or twice.
            Assert.InRange(flow.Roughness / (1.9 * lump * lump), 0.5, 2);
        }
        Assert.Null(Flow.Of([.. Enumerable.Repeat((10.0, 5.0), Flow.FewestIntervals - 1)]));
        Assert.Equal(0, Flow.Of([.. Enumerable.Repeat((10.0, 5.0), 100)])!.Roughness, 9);
    }
}
