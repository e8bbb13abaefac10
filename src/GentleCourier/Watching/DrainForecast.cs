namespace GentleCourier.Watching;

/// <summary>Whether a queue will be empty, and when, if events come and go as they did of late.</summary>
public enum Outlook
{
    /// <summary>There are too few counts to say: under a minute of them.</summary>
    Unknown,

    /// <summary>Hardly anything waits: what comes is handled within seconds.</summary>
    KeepsUp,

    /// <summary>It shrinks, and will be empty.</summary>
    Drains,

    /// <summary>It grows as much as it shrinks, or its rates vary too much to tell.</summary>
    Unclear,

    /// <summary>It grows: with these workers it never catches up.</summary>
    Grows,
}

/// <summary>
/// When a queue will be empty if events come and go as they did in the last minutes. Pure computation.
/// </summary>
/// <remarks>
/// The backlog is taken for a random walk with drift, whose drift and variance are estimated from the intervals of
/// <see cref="QueueRates"/>. The bounds are where the band that holds the backlog with a probability of
/// <see cref="Confidence"/> reaches zero; it is as wide as the walk is rough and the drift is uncertain (a prediction
/// interval with Student's t, as of G. J. Hahn and W. Q. Meeker, "Statistical Intervals", 1991).
/// </remarks>
public sealed class DrainForecast(Outlook outlook, TimeSpan? about, TimeSpan? soonest, TimeSpan? latest)
{
    /// <summary>Whether, in a word.</summary>
    public Outlook Outlook { get; } = outlook;

    /// <summary>The likeliest time until it is empty; null unless it drains.</summary>
    public TimeSpan? About { get; } = about;

    /// <summary>It is hardly empty before this; null unless it drains.</summary>
    public TimeSpan? Soonest { get; } = soonest;

    /// <summary>It is hardly later than this; null unless it drains, or where no end is certain.</summary>
    public TimeSpan? Latest { get; } = latest;

    /// <summary>How often the true time lies between <see cref="Soonest"/> and <see cref="Latest"/>.</summary>
    public const double Confidence = 0.9;

    /// <summary>What is handled within this time is no backlog worth a forecast.</summary>
    public static readonly TimeSpan Everyday = TimeSpan.FromSeconds(5);

    private const int FewestIntervals = 4;
    // A forecast of weeks from minutes is none.
    private static readonly TimeSpan Farthest = TimeSpan.FromDays(30);

    private static readonly DrainForecast Unknown = new(Outlook.Unknown, null, null, null);

    /// <summary>The forecast of a queue.</summary>
    /// <param name="waiting">How many events are not handled yet.</param>
    /// <param name="rates">How they came and went of late; null where that is not known.</param>
    public static DrainForecast Of(long waiting, QueueRates? rates)
    {
        if (waiting == 0) return new DrainForecast(Outlook.KeepsUp, null, null, null);
        if (rates is null || rates.Intervals.Count < FewestIntervals) return Unknown;
        var seconds = rates.Over.TotalSeconds;
        var drift = rates.Intervals.Sum(i => (double)i.Growth) / seconds;
        var variance = rates.Intervals.Sum(i => Square(i.Growth - (drift * i.Length.TotalSeconds))
            / i.Length.TotalSeconds) / (rates.Intervals.Count - 1);
        var spread = Student.Quantile(rates.Intervals.Count - 1) * Math.Sqrt(variance);
        // As far as the drift itself is known.
        var (least, most) = (drift - (spread / Math.Sqrt(seconds)), drift + (spread / Math.Sqrt(seconds)));

        if (least > 0) return new DrainForecast(Outlook.Grows, null, null, null);
        if (waiting <= rates.Handled * Everyday.TotalSeconds)
            return new DrainForecast(Outlook.KeepsUp, null, null, null);
        if (drift >= 0 || waiting / -drift > Farthest.TotalSeconds)
            return new DrainForecast(Outlook.Unclear, null, null, null);
        var soonest = Reaches(waiting, drift, -spread, seconds)!.Value;
        var latest = most < 0 ? Reaches(waiting, drift, spread, seconds) : null;
        return new DrainForecast(Outlook.Drains, TimeSpan.FromSeconds(waiting / -drift), soonest,
            latest > Farthest ? null : latest);
    }

    /// <summary>How many events will be waiting after a time, if it goes on like this; not below 0.</summary>
    public static long After(TimeSpan time, long waiting, QueueRates rates)
    {
        ArgumentNullException.ThrowIfNull(rates);
        return Math.Max(0, waiting + (long)(rates.Growth * time.TotalSeconds));
    }

    /// <summary>
    /// When <c>waiting + drift t + spread √(t + t²/observed)</c> is 0. Of the two solutions of the square it is the
    /// greater one where the spread is above, since that makes it later, and the smaller one where it is below.
    /// </summary>
    private static TimeSpan? Reaches(long waiting, double drift, double spread, double observed)
    {
        var a = Square(drift) - (Square(spread) / observed);
        var b = (2.0 * waiting * drift) - Square(spread);
        var c = Square((double)waiting);
        if (Math.Abs(a) < 1e-12) return TimeSpan.FromSeconds(-c / b);
        var root = Math.Sqrt(Math.Max(0, Square(b) - (4 * a * c)));
        double[] solutions = [(-b - root) / (2 * a), (-b + root) / (2 * a)];
        var positive = solutions.Where(t => t > 0).Order().ToList();
        if (positive.Count == 0) return null;
        var found = spread > 0 ? positive[^1] : positive[0];
        return found > TimeSpan.MaxValue.TotalSeconds / 2 ? null : TimeSpan.FromSeconds(found);
    }

    private static double Square(double x) => x * x;
}
