namespace GentleCourier.Watching;

/// <summary>
/// What becomes of a queue when nobody handles its events for a time: how much will wait, when it is gone, how long an
/// event waits at most, and how many workers would keep that under a limit. Pure computation.
/// </summary>
/// <remarks>
/// The backlog is taken for a random walk with drift, as in <see cref="DrainForecast"/>: it grows by what comes, and
/// shrinks by what workers handle that always have something to do. Events are taken to be handled in the order in
/// which they came. Bounds hold what they bound with a probability of <see cref="DrainForecast.Confidence"/>.
/// </remarks>
/// <param name="arrivals">What comes.</param>
/// <param name="worker">What one worker handles that is never idle.</param>
/// <param name="workers">How many there are, before and after.</param>
/// <param name="waiting">What waits now.</param>
/// <param name="begins">In what time it begins, in seconds.</param>
/// <param name="outage">For how long nobody handles anything, in seconds.</param>
internal sealed class OutageForecast(
    Flow arrivals, Flow worker, int workers, long waiting, double begins, double outage)
{
    /// <summary>A forecast of months from hours is none.</summary>
    public static readonly TimeSpan Farthest = TimeSpan.FromDays(30);

    private const int MostWorkers = 10_000;

    // Of an exponential distribution: its mean times this is exceeded once in twenty times.
    private static readonly double Rare = Math.Log(20);

    private readonly Flow handled = worker.Times(workers);
    private readonly double spread = Student.Quantile(Math.Min(arrivals.Freedom, worker.Freedom));

    /// <summary>What may be more or less.</summary>
    /// <param name="About">What is likeliest.</param>
    /// <param name="Low">It is hardly less.</param>
    /// <param name="High">It is hardly more; null where nobody knows.</param>
    public readonly record struct Estimate(double About, double Low, double? High);

    /// <summary>Seconds from now at which it ends.</summary>
    public double Ends => begins + outage;

    /// <summary>Whether these workers handle more than comes.</summary>
    public bool CatchesUp => handled.PerSecond > arrivals.PerSecond;

    /// <summary>
    /// What waits on average where workers keep up: of a random walk that is kept from falling below 0, its variance by
    /// twice its drift (J. M. Harrison, "Brownian Motion and Stochastic Flow Systems", 1985).
    /// </summary>
    private double Usual =>
        (arrivals.Roughness + handled.Roughness) / (2 * (handled.PerSecond - arrivals.PerSecond));

    /// <summary>How many events wait at a time, in seconds from now; see also <see cref="Gone"/>.</summary>
    public Estimate WaitingAt(double time)
    {
        var (mean, deviation) = At(time);
        var margin = spread * deviation;
        return new(Math.Max(0, mean), Math.Max(0, mean - margin), Math.Max(0, mean + margin));
    }

    /// <summary>
    /// When nothing that came before or during the outage waits any more, in seconds from now; null: it never catches
    /// up, or not within <see cref="Farthest"/>.
    /// </summary>
    public Estimate? Gone()
    {
        if (FirstEmpty(0) is not { } about) return null;
        return new(about, FirstEmpty(-spread) ?? about, FirstEmpty(spread));
    }

    /// <summary>
    /// For how long the event waits that waits longest, in seconds: either what comes when the outage begins, or what
    /// comes when it ends.
    /// </summary>
    public Estimate LongestWait()
    {
        var (before, peak) = (WaitingAt(begins), WaitingAt(Ends));
        // At its beginning a burst may come as well: so far a walk with a negative drift gets at the most (Harrison).
        var burst = CatchesUp ? arrivals.Roughness / (2 * (handled.PerSecond - arrivals.PerSecond)) : 0;
        var high = (First: TakesAtMost(before.High!.Value + (burst * Rare)), Last: TakesAtMost(peak.High!.Value));
        return new(
            Math.Max(outage + ((before.About + burst) / handled.PerSecond), peak.About / handled.PerSecond),
            Math.Max(outage, peak.Low / handled.PerSecond),
            high.First is { } first && high.Last is { } last ? Math.Max(outage + first, last) : null);
    }

    /// <summary>
    /// The fewest workers with which hardly any event waits longer than this; null: no number of workers does it, since
    /// the outage itself lasts as long.
    /// </summary>
    /// <param name="limit">In seconds.</param>
    public int? WorkersFor(double limit)
    {
        if (limit <= outage) return null;
        // More workers are never slower: half of those that are left is looked at each time.
        var (few, many) = (0, MostWorkers);
        if (!IsKept(many)) return null;
        while (many - few > 1)
        {
            var middle = (few + many) / 2;
            (few, many) = IsKept(middle) ? (few, middle) : (middle, many);
        }
        return many;

        bool IsKept(int count)
        {
            var tried = new OutageForecast(arrivals, worker, count, waiting, begins, outage);
            return tried.CatchesUp && tried.LongestWait().High <= limit;
        }
    }

    /// <summary>
    /// In what time so many events are surely handled, and one more; null where that is not sure at all.
    /// </summary>
    private double? TakesAtMost(double events)
    {
        var sure = handled.PerSecond - (spread * Math.Sqrt(handled.Roughness / handled.Observed));
        if (sure <= 0) return null;
        var time = (events + 1) / sure;
        return time + (spread * Math.Sqrt(handled.Roughness * time) / sure);
    }

    /// <summary>The mean of what waits, and its standard deviation.</summary>
    private (double Mean, double Deviation) At(double time)
    {
        var early = Math.Min(time, begins);
        var mean = waiting + ((arrivals.PerSecond - handled.PerSecond) * early);
        // What was gone before does not come back; but a queue that keeps up is seldom empty: bursts wait for a moment.
        var wasGone = CatchesUp && early > 0 && mean <= Usual;
        var usual = wasGone ? Usual : 0;
        var during = Math.Max(0, Math.Min(time, Ends) - begins);
        var after = Math.Max(0, time - Ends);
        mean = (wasGone ? usual : mean) + (arrivals.PerSecond * (during + after)) - (handled.PerSecond * after);
        var coming = during + after + (wasGone ? 0 : early);
        var handling = after + (wasGone ? 0 : early);
        return (mean, Math.Sqrt((usual * usual) + arrivals.VarianceOf(coming) + handled.VarianceOf(handling)));
    }

    private double? FirstEmpty(double margin)
    {
        bool IsEmpty(double time)
        {
            var (mean, deviation) = At(time);
            return mean + (margin * deviation) <= 0;
        }

        if (IsEmpty(Ends)) return Ends;
        var (low, step) = (Ends, 1.0);
        while (!IsEmpty(low + step))
        {
            low += step;
            step *= 1.5;
            if (low > Farthest.TotalSeconds) return null;
        }
        var high = low + step;
        while (high - low > 0.1)
        {
            var middle = (low + high) / 2;
            if (IsEmpty(middle)) high = middle;
            else low = middle;
        }
        return high;
    }
}
