using System.Globalization;

namespace GentleCourier.Receiving.Handling;

/// <summary>What follows a failed attempt, by the queue's policy. Pure computation.</summary>
/// <param name="Delay">The event comes again after this time; null: never.</param>
/// <param name="Reason">Why it does not come again.</param>
internal readonly record struct Redelivery(TimeSpan? Delay, string? Reason)
{
    /// <summary>Bounds of the wait of what comes again without having counted.</summary>
    public static readonly TimeSpan ShortestLater = TimeSpan.FromMilliseconds(200),
        LongestLater = TimeSpan.FromMinutes(1);

    /// <param name="options">The policy.</param>
    /// <param name="attempt">Which attempt has failed, from 1 on.</param>
    /// <param name="asked">The delay that the receiver has named, if it has.</param>
    /// <param name="age">How old the event is, as far as anybody knows.</param>
    /// <param name="random">A number from 0 to under 1.</param>
    public static Redelivery After(ReceiverOptions options, int attempt, TimeSpan? asked, TimeSpan age, double random)
    {
        if (attempt >= options.MaxAttempts)
            return new(null, attempt == 1 ? "failed the only attempt" : string.Create(
                CultureInfo.InvariantCulture, $"failed all {attempt} attempts"));

        var delay = asked ?? BackOff.Jitter(Bound(options, attempt), random);
        return age + delay > options.MaxAge
            ? new(null, string.Create(CultureInfo.InvariantCulture,
                $"failed attempt {attempt}, and would be older than {options.MaxAge} at the next"))
            : new(delay, null);
    }

    /// <summary>
    /// The longest that the wait after an attempt can be: nothing for those that come at once, and then evenly growing,
    /// from the first delay after the first of the others to the longest after the last.
    /// </summary>
    public static TimeSpan Bound(ReceiverOptions options, int attempt)
    {
        var (place, last) = (attempt - options.RetriesAtOnce - 1, options.MaxAttempts - options.RetriesAtOnce - 2);
        if (place < 0) return TimeSpan.Zero;
        if (place == 0 || options.FirstDelay == TimeSpan.Zero) return options.FirstDelay;
        if (place >= last) return options.MaxDelay;
        return options.FirstDelay * Math.Pow(options.MaxDelay / options.FirstDelay, (double)place / last);
    }

    /// <summary>
    /// When to come again without having counted: after a part of the time that it has been tried for, so that a short
    /// trouble costs little and a long one makes little work.
    /// </summary>
    /// <param name="triedFor">How long ago it was tried for the first time.</param>
    /// <param name="random">A number from 0 to under 1.</param>
    public static TimeSpan Later(TimeSpan triedFor, double random)
    {
        var bound = triedFor / 2;
        return BackOff.Jitter(
            bound < ShortestLater ? ShortestLater : bound > LongestLater ? LongestLater : bound, random);
    }
}
