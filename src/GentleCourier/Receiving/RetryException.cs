namespace GentleCourier;

/// <summary>
/// Thrown by a receiver to say when the event is to come again. The attempt counts as failed, and the limits of
/// attempts and age hold. Where there is an inbox it comes after half of the time that this remembers at the latest,
/// <see cref="RetentionOptions.Inbox"/>: a copy that comes when that has been forgotten would act a second time.
/// </summary>
public sealed class RetryException : Exception
{
    /// <summary>The longest that can be asked for.</summary>
    public static readonly TimeSpan Longest = TimeSpan.FromDays(30);

    /// <param name="delay">After this time, 0 to 30 days, instead of the policy's back-off.</param>
    /// <param name="reason">Why, in one line, for people: shown with the waiting event.</param>
    /// <param name="inner">The exception behind it, if there is one.</param>
    /// <exception cref="ArgumentOutOfRangeException">
    /// The delay is negative or longer than <see cref="Longest"/>.
    /// </exception>
    public RetryException(TimeSpan delay, string reason, Exception? inner = null) : base(reason, inner)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(delay, TimeSpan.Zero);
        ArgumentOutOfRangeException.ThrowIfGreaterThan(delay, Longest);
        Delay = delay;
    }

    /// <summary>After this time.</summary>
    public TimeSpan Delay { get; }
}
