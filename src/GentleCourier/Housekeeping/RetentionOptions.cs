using GentleCourier.Receiving.Handling;

namespace GentleCourier;

/// <summary>
/// For how long a store keeps what it no longer needs for its work. Settings: <c>Courier:Retention:…</c>. All instances
/// of a service should say the same.
/// </summary>
public sealed class RetentionOptions
{
    /// <summary>
    /// For how long it is known that an event was handled: a second copy that comes later than that acts again. Null:
    /// for ever. At least an hour, and for each queue that is received with an inbox at least its <see
    /// cref="ReceiverOptions.Patience"/> and all waits of its retries together; backlogs and pauses come on top, so
    /// leave room for the longest that you expect.
    /// </summary>
    public TimeSpan? Inbox { get; set; } = TimeSpan.FromDays(30);

    /// <summary>
    /// For how long events stay in the outbox that the broker has refused for good, from when they were added; null:
    /// for ever. At least an hour.
    /// </summary>
    public TimeSpan? Refused { get; set; }

    /// <summary>The shortest that may be set, whatever it is for.</summary>
    internal static readonly TimeSpan Shortest = TimeSpan.FromHours(1);

    internal IEnumerable<string> Problems(IEnumerable<QueueBinding> bindings)
    {
        foreach (var (name, value) in new[] { (nameof(Inbox), Inbox), (nameof(Refused), Refused) })
            if (value < Shortest) yield return $"{name} must be at least {Shortest}, or none, but is {value}";
        foreach (var binding in bindings.Where(b => b.Options.Inbox))
        {
            if (Inbox >= Shortest && Inbox < ShortestSafe(binding.Options))
                yield return $"{nameof(Inbox)} must be at least {WholeSeconds(ShortestSafe(binding.Options))} for "
                    + $"queue '{binding.Queue}', its Patience and the waits of its retries together, but is "
                    + $"{Inbox}: a copy that is still tried would act a second time";
        }
    }

    /// <summary>
    /// For how long one copy may still be tried after another was handled: until it is set aside, since both came about
    /// the same time.
    /// </summary>
    internal static TimeSpan ShortestSafe(ReceiverOptions options)
    {
        var waits = TimeSpan.Zero;
        for (var attempt = 1; attempt < options.MaxAttempts; attempt++) waits += Redelivery.Bound(options, attempt);
        return options.Patience + waits;
    }

    private static TimeSpan WholeSeconds(TimeSpan time) => TimeSpan.FromSeconds(Math.Ceiling(time.TotalSeconds));
}
