namespace GentleCourier;

/// <summary>
/// Exponential back-off with jitter: a random time between half of a bound and all of it, where the bound doubles with
/// each attempt, up to a cap. Many that failed together do not come back together, and none comes back at once. Pure
/// computation.
/// </summary>
internal static class BackOff
{
    /// <summary>How long to wait after a failure.</summary>
    /// <param name="attempt">Which attempt failed, from 1 on.</param>
    /// <param name="first">Bound of the wait after the first attempt.</param>
    /// <param name="longest">Cap of the bound.</param>
    /// <param name="random">A number from 0 to under 1.</param>
    public static TimeSpan Delay(int attempt, TimeSpan first, TimeSpan longest, double random) =>
        Jitter(Bound(attempt, first, longest), random);

    /// <summary>The longest that <see cref="Delay"/> can be.</summary>
    public static TimeSpan Bound(int attempt, TimeSpan first, TimeSpan longest)
    {
        // 2^62 doublings are past any cap; stopping there keeps the power finite.
        var ticks = first.Ticks * Math.Pow(2, Math.Clamp(attempt - 1, 0, 62));
        return ticks >= longest.Ticks ? longest : TimeSpan.FromTicks((long)ticks);
    }

    /// <summary>A time between half of a bound and all of it.</summary>
    public static TimeSpan Jitter(TimeSpan bound, double random) => bound * (0.5 + random / 2);
}
