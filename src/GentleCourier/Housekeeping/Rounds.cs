namespace GentleCourier.Housekeeping;

/// <summary>
/// When to clear away, and how gently. There is no index by age, which would tax every event: a round looks at
/// everything, so rounds are rare. What should have gone then lies there for a twentieth of its time longer. Pure
/// computation.
/// </summary>
internal static class Rounds
{
    private static readonly TimeSpan Soonest = TimeSpan.FromMinutes(1), Rarest = TimeSpan.FromDays(1),
        LongestLook = TimeSpan.FromMinutes(5), ShortestRest = TimeSpan.FromMilliseconds(1),
        LongestRest = TimeSpan.FromSeconds(10);

    /// <summary>How long after the end of a count the next one is due.</summary>
    public static TimeSpan Count { get; } = TimeSpan.FromHours(1);

    /// <summary>How long after the end of a round the next one is due, where things are kept for so long.</summary>
    public static TimeSpan Every(TimeSpan keep) =>
        keep / 20 < Soonest ? Soonest : keep / 20 > Rarest ? Rarest : keep / 20;

    /// <summary>How long to wait before looking whether it is time.</summary>
    public static TimeSpan Look(TimeSpan every) => every / 4 > LongestLook ? LongestLook : every / 4;

    /// <summary>
    /// How long to rest from a step. Looking takes a tenth of the time at the most. Removing takes a third, so that it
    /// keeps up with whatever comes: that is no more work in all, only sooner.
    /// </summary>
    public static TimeSpan Rest(TimeSpan step, bool hasRemoved)
    {
        var rest = step * (hasRemoved ? 2 : 9);
        return rest < ShortestRest ? ShortestRest : rest > LongestRest ? LongestRest : rest;
    }
}
