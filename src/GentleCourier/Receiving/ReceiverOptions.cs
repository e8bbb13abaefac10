namespace GentleCourier.Receiving;

/// <summary>How one queue is received. Settings: <c>Courier:Receivers:{queue}:…</c>, which go before what the code says.</summary>
public sealed class ReceiverOptions
{
    /// <summary>
    /// How many unsettled deliveries this worker may hold, 1 to 100,000. Small is fair, large is fast for short work:
    /// with 1, a worker busy with a long job gets nothing more, and others stay busy.
    /// </summary>
    public int Prefetch { get; set; } = 20;

    /// <summary>How many deliveries are handled at the same moment, 1 to <see cref="Prefetch"/>.</summary>
    public int Parallel { get; set; } = 1;

    /// <summary>After how many failed attempts an event is set aside, 1 to 1,000.</summary>
    public int MaxAttempts { get; set; } = 5;

    /// <summary>Bound of the wait after the first failed attempt; it doubles with each further one. Up to a day; 0: at once.</summary>
    public TimeSpan FirstDelay { get; set; } = TimeSpan.FromSeconds(1);

    /// <summary>Cap of the wait between attempts, at least <see cref="FirstDelay"/>, at most 7 days.</summary>
    public TimeSpan LongestDelay { get; set; } = TimeSpan.FromMinutes(5);

    /// <summary>
    /// For how long a delivery belongs to this worker; it is renewed while the worker lives. After a crash the worker's
    /// deliveries go to others when it ends. 1 second to 1 hour.
    /// </summary>
    public TimeSpan Lease { get; set; } = TimeSpan.FromSeconds(30);

    /// <summary>
    /// How long running handlers may take to finish when the host stops; their token is cancelled then. 0 to 1 hour.
    /// Keep the host's own <c>ShutdownTimeout</c> above it.
    /// </summary>
    public TimeSpan StopLimit { get; set; } = TimeSpan.FromSeconds(10);

    /// <summary>
    /// Whether handled events are kept in the store's inbox, so that a second copy has no effect. Turn it off only for
    /// handlers that bear being repeated.
    /// </summary>
    public bool Inbox { get; set; } = true;

    internal IEnumerable<string> Problems()
    {
        if (Prefetch is < 1 or > 100_000) yield return $"Prefetch must be 1 to 100,000, but is {Prefetch}";
        if (Parallel < 1 || Parallel > Prefetch) yield return $"Parallel must be 1 to Prefetch ({Prefetch}), but is {Parallel}";
        if (MaxAttempts is < 1 or > 1_000) yield return $"MaxAttempts must be 1 to 1,000, but is {MaxAttempts}";
        if (FirstDelay < TimeSpan.Zero || FirstDelay > TimeSpan.FromDays(1)) yield return $"FirstDelay must be 0 to a day, but is {FirstDelay}";
        if (LongestDelay < FirstDelay || LongestDelay > TimeSpan.FromDays(7)) yield return $"LongestDelay must be FirstDelay ({FirstDelay}) to 7 days, but is {LongestDelay}";
        if (Lease < TimeSpan.FromSeconds(1) || Lease > TimeSpan.FromHours(1)) yield return $"Lease must be 1 second to 1 hour, but is {Lease}";
        if (StopLimit < TimeSpan.Zero || StopLimit > TimeSpan.FromHours(1)) yield return $"StopLimit must be 0 to 1 hour, but is {StopLimit}";
    }
}
