namespace GentleCourier.Watching;

/// <summary>How many workers a queue needs. Pure computation.</summary>
/// <remarks>
/// Little's law: on average <c>L = λ W</c> events are in a system that they enter at the rate <c>λ</c>, each for a
/// time <c>W</c>. Of handlers: as many are busy as events come in a second times the seconds that each takes. Source:
/// J. D. C. Little, "A Proof for the Queuing Formula L = λW", Operations Research 9 (1961).
/// </remarks>
internal static class WorkersNeeded
{
    /// <summary>
    /// The fewest workers with which all that waits is gone within a time, while events go on coming: none then waits
    /// longer than that. They are all busy meanwhile, and with as many the backlog does not grow again.
    /// </summary>
    /// <param name="arrivals">Events that come, a second; 0 or more.</param>
    /// <param name="handling">
    /// How long a worker is busy with an event on average; where it has several handlers, their time divided by their
    /// number.
    /// </param>
    /// <param name="waiting">Events that wait by now.</param>
    /// <param name="within">The time, above 0.</param>
    public static int For(double arrivals, TimeSpan handling, long waiting, TimeSpan within)
    {
        ArgumentOutOfRangeException.ThrowIfNegative(arrivals);
        ArgumentOutOfRangeException.ThrowIfLessThanOrEqual(within, TimeSpan.Zero);
        var busy = (arrivals + (waiting / within.TotalSeconds)) * handling.TotalSeconds;
        // With exactly as many as are busy on average, what waits never becomes less.
        return busy >= int.MaxValue - 1 ? int.MaxValue : (int)Math.Floor(busy) + 1;
    }
}
