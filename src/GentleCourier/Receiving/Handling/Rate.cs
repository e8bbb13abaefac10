namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Spreads work evenly, so that no more than so much begins in a second: each takes the next free place in time. What
/// was not used is not saved up. Pure computation; one caller at a time.
/// </summary>
/// <param name="perSecond">More than 0.</param>
internal sealed class Rate(double perSecond)
{
    private TimeSpan free;

    /// <summary>How much may begin in a second.</summary>
    public double PerSecond => perSecond;

    /// <summary>Takes places.</summary>
    /// <param name="count">How many.</param>
    /// <param name="now">The time, any that only grows.</param>
    /// <returns>How long to wait until the first of them.</returns>
    public TimeSpan Take(int count, TimeSpan now)
    {
        var first = free > now ? free : now;
        free = first + TimeSpan.FromSeconds(count / perSecond);
        return first - now;
    }
}
