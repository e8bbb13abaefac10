namespace GentleCourier;

/// <summary>
/// When an event is to be published: at a time, or after a delay that begins when it is added. Both are measured by the
/// clock of the store's database. What is due already is published at once.
/// </summary>
public readonly record struct DueTime
{
    /// <summary>The longest delay: 36,525 days, a hundred years.</summary>
    public static readonly TimeSpan MaxDelay = TimeSpan.FromDays(36_525);

    private DueTime(DateTimeOffset? time, TimeSpan delay) => (Time, Delay) = (time, delay);

    internal DateTimeOffset? Time { get; }

    internal TimeSpan Delay { get; }

    /// <summary>At a time, to the millisecond; before 1970, which some databases cannot reckon with, is 1970.</summary>
    public static DueTime At(DateTimeOffset time) => new(
        time < DateTimeOffset.UnixEpoch ? DateTimeOffset.UnixEpoch : ToMilliseconds(time), TimeSpan.Zero);

    /// <summary>After a delay, to the millisecond.</summary>
    /// <exception cref="ArgumentOutOfRangeException">
    /// It is negative, or longer than <see cref="MaxDelay"/>.
    /// </exception>
    public static DueTime In(TimeSpan delay)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(delay, TimeSpan.Zero);
        ArgumentOutOfRangeException.ThrowIfGreaterThan(delay, MaxDelay);
        return new(null, delay);
    }

    /// <summary>When that is, if it is now so late.</summary>
    internal DateTimeOffset From(DateTimeOffset now) => Time ?? ToMilliseconds(now + Delay);

    /// <summary>Such as "in 01:30:00" or "at 2026-05-01T08:00:00.0000000Z".</summary>
    public override string ToString() => Time is { } time ? $"at {time.UtcDateTime:O}" : $"in {Delay}";

    private static DateTimeOffset ToMilliseconds(DateTimeOffset time) =>
        time.AddTicks(-(time.Ticks % TimeSpan.TicksPerMillisecond));
}
