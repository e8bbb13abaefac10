using System.Diagnostics;

namespace GentleCourier.Testing;

/// <summary>Whether anything still goes on, by the machine's clock. Not thread-safe.</summary>
/// <param name="limit">After what time of nothing it is over.</param>
internal sealed class Stillness(TimeSpan limit)
{
    /// <summary>So many looks at the least have seen nothing where it is still.</summary>
    public const int Looks = 4;

    /// <summary>What goes on has shown itself by then, unless it waits for the trial's clock.</summary>
    public static readonly TimeSpan Least = TimeSpan.FromMilliseconds(10);

    // The same, of what nearly never waits for it: a machine that others use as well may do nothing for so long.
    private static readonly TimeSpan Surely = TimeSpan.FromSeconds(1);

    // Where a look takes long, so does everything else.
    private const int LooksLong = 20;

    private long version = -1, since = Stopwatch.GetTimestamp(), last = Stopwatch.GetTimestamp();
    private int looks;

    /// <summary>Whether what goes on can only wait for the trial's clock.</summary>
    /// <param name="isUsual">Whether that is what such things wait for.</param>
    /// <param name="lookTook">How long the last look has taken.</param>
    public bool IsStill(bool isUsual, TimeSpan lookTook)
    {
        if (looks < Looks) return false;
        var least = isUsual ? Least : Surely;
        return Stopwatch.GetElapsedTime(last) >= (isUsual || lookTook * LooksLong < least ? least
            : lookTook * LooksLong);
    }

    /// <summary>
    /// Whether nothing has happened for so long that nothing will, however little the machine does for it.
    /// </summary>
    public bool IsLong => Stopwatch.GetElapsedTime(since) > limit / 2;

    /// <summary>Whether nothing has happened for too long.</summary>
    public bool IsOver => Stopwatch.GetElapsedTime(since) > limit;

    /// <summary>It has been looked at.</summary>
    /// <param name="seen">Another number where something has happened.</param>
    public void Look(long seen)
    {
        looks++;
        if (seen == version) return;
        (version, looks) = (seen, 0);
        since = last = Stopwatch.GetTimestamp();
    }

    /// <summary>The clock was moved: it has to be still anew.</summary>
    public void Moved() => (looks, last) = (0, Stopwatch.GetTimestamp());
}
