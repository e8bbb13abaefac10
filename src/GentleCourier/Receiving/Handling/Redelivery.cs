using System.Globalization;

namespace GentleCourier.Receiving.Handling;

/// <summary>What follows a failed attempt, by the queue's policy. Pure computation.</summary>
/// <param name="Delay">The event comes again after this time; null: never.</param>
/// <param name="Reason">Why it does not come again.</param>
internal readonly record struct Redelivery(TimeSpan? Delay, string? Reason)
{
    /// <param name="options">The policy.</param>
    /// <param name="attempt">Which attempt has failed, from 1 on.</param>
    /// <param name="asked">The delay that the receiver has named, if it has.</param>
    /// <param name="age">How old the event is; null where nobody knows.</param>
    /// <param name="random">A number from 0 to under 1.</param>
    public static Redelivery After(ReceiverOptions options, int attempt, TimeSpan? asked, TimeSpan? age, double random)
    {
        if (attempt >= options.MaxAttempts)
            return new(null, attempt == 1 ? "failed the only attempt" : string.Create(
                CultureInfo.InvariantCulture, $"failed all {attempt} attempts"));

        var delay = asked ?? ByPolicy(options, attempt, random);
        return age + delay > options.MaxAge
            ? new(null, string.Create(CultureInfo.InvariantCulture,
                $"failed attempt {attempt}, and would be older than {options.MaxAge} at the next"))
            : new(delay, null);
    }

    private static TimeSpan ByPolicy(ReceiverOptions options, int attempt, double random) =>
        attempt <= options.RetriesAtOnce
        ? TimeSpan.Zero
        : BackOff.Delay(attempt - options.RetriesAtOnce, options.FirstDelay, options.LongestDelay, random);
}
