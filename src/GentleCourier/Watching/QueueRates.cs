namespace GentleCourier.Watching;

/// <summary>
/// How fast the events of a queue come and go, by what it counted. Pure computation; a gap in the counts loses nothing,
/// since they are cumulative, and where they begin anew (a broker that was restored or replaced) that interval is left
/// out.
/// </summary>
public sealed class QueueRates(TimeSpan @over, double arrivals, double handled, double failed, double setAside)
{
    /// <summary>How much time it is the rate of.</summary>
    public TimeSpan Over { get; } = @over;

    /// <summary>Events that came, a second.</summary>
    public double Arrivals { get; } = arrivals;

    /// <summary>Events that were handled, a second.</summary>
    public double Handled { get; } = handled;

    /// <summary>Attempts that failed, a second.</summary>
    public double Failed { get; } = failed;

    /// <summary>Events that were set aside, a second.</summary>
    public double SetAside { get; } = setAside;

    /// <summary>How far back one looks, where there are counts from before that: three minutes.</summary>
    public static readonly TimeSpan Window = TimeSpan.FromMinutes(3);

    /// <summary>How fast the queue grows, in events a second; negative where it shrinks.</summary>
    public double Growth => Arrivals - Handled - SetAside;

    /// <summary>The intervals that it was reckoned from, the oldest first.</summary>
    internal IReadOnlyList<Interval> Intervals { get; private init; } = [];

    /// <summary>The rates until the last count.</summary>
    /// <param name="history">Counts, in any order.</param>
    /// <returns>Null where there are not two counts of different moments to compare.</returns>
    public static QueueRates? Of(IReadOnlyList<QueueCounts> history)
    {
        ArgumentNullException.ThrowIfNull(history);
        var intervals = IntervalsOf(history);
        var over = intervals.Aggregate(TimeSpan.Zero, (sum, interval) => sum + interval.Length);
        if (over <= TimeSpan.Zero) return null;
        return new QueueRates(
            over, Rate(i => i.Came), Rate(i => i.Accepted), Rate(i => i.Failed), Rate(i => i.SetAside))
        {
            Intervals = intervals,
        };

        double Rate(Func<Interval, long> count) => intervals.Sum(count) / over.TotalSeconds;
    }

    private static List<Interval> IntervalsOf(IReadOnlyList<QueueCounts> history)
    {
        var inOrder = history.OrderBy(c => c.At).ToList();
        // Where the window holds no two counts, the interval that reaches into it says what there is to say.
        var begin = inOrder.Count == 0 ? 0 : inOrder.FindIndex(c => c.At >= inOrder[^1].At - Window);
        if (begin == inOrder.Count - 1) begin = Math.Max(0, begin - 1);
        var intervals = new List<Interval>();
        foreach (var (from, to) in inOrder.Skip(begin).Zip(inOrder.Skip(begin + 1)))
        {
            if (to.At > from.At && to.Came >= from.Came && to.Accepted >= from.Accepted && to.Failed >= from.Failed
                && to.SetAside >= from.SetAside)
            {
                intervals.Add(new Interval(to.At - from.At, to.Came - from.Came, to.Accepted - from.Accepted,
                    to.Failed - from.Failed, to.SetAside - from.SetAside));
            }
        }
        return intervals;
    }

    /// <summary>What happened between two counts.</summary>
    internal readonly record struct Interval(
        TimeSpan Length, long Came, long Accepted, long Failed, long SetAside)
    {
        public long Growth => Came - Accepted - SetAside;
    }
}
