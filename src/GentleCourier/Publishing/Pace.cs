namespace GentleCourier.Publishing;

/// <summary>
/// How long a relay rests between two batches that were not full. Each batch costs commits, so under a stream of events
/// it rests until some have gathered; where they come singly nothing is gained by that, and it rests not at all. What
/// counts is how fast they have come of late, and not how long the last batch took: that may have been waiting for a
/// slow disk, and whoever waits for the events would wait for that several times. No I/O; one caller at a time.
/// </summary>
internal sealed class Pace
{
    /// <summary>No rest is longer, and where in twice this not even one more event comes, there is none.</summary>
    public static readonly TimeSpan LongestRest = TimeSpan.FromMilliseconds(10);

    /// <summary>Under a stream it takes up no more than a part of the time, as long as a batch is quick.</summary>
    public static readonly TimeSpan LongestRestraint = TimeSpan.FromMilliseconds(5);

    /// <summary>For about so long what has come is remembered.</summary>
    public static readonly TimeSpan Memory = TimeSpan.FromMilliseconds(100);

    private const int Restraint = 3, Enough = 8;

    private double remembered;
    private TimeSpan at;

    /// <summary>So many events have gone.</summary>
    /// <param name="count">How many.</param>
    /// <param name="now">When, by a clock that is never set.</param>
    /// <param name="took">How long the batch took, from its reading to its marks.</param>
    /// <returns>For how long to rest.</returns>
    public TimeSpan Rest(int count, TimeSpan now, TimeSpan took)
    {
        remembered = remembered * Math.Exp((at - now) / Memory) + count;
        at = now;
        return Rest(remembered / Memory.TotalSeconds, took);
    }

    /// <param name="rate">Events a second.</param>
    /// <param name="took">How long the last batch took.</param>
    public static TimeSpan Rest(double rate, TimeSpan took)
    {
        if (rate * 2 * LongestRest.TotalSeconds < 1) return TimeSpan.Zero;
        var gathering = TimeSpan.FromSeconds(Enough / rate) - took;
        var restraint = took * Restraint < LongestRestraint ? took * Restraint : LongestRestraint;
        var rest = gathering > restraint ? gathering : restraint;
        return rest < LongestRest ? rest : LongestRest;
    }
}
