namespace GentleCourier;

/// <summary>How the relay moves events from the outbox to the broker. Settings: <c>Courier:Relay:…</c>.</summary>
public sealed class RelayOptions
{
    /// <summary>
    /// Whether this process relays its store's outbox. Where several do, one leads and the others stand by.
    /// </summary>
    public bool Enabled { get; set; } = true;

    /// <summary>How many events are published at once, 1 to 10,000.</summary>
    public int BatchSize { get; set; } = 500;

    /// <summary>
    /// For how long a relay that has died still counts as the leader, 1 second to 10 minutes; another takes over then.
    /// </summary>
    public TimeSpan Lease { get; set; } = TimeSpan.FromSeconds(5);

    /// <summary>Bound of the wait after the first failure; it doubles with each further one. 1 ms to 1 hour.</summary>
    public TimeSpan FirstDelay { get; set; } = TimeSpan.FromMilliseconds(100);

    /// <summary>Cap of the wait between two tries, at least <see cref="FirstDelay"/>, at most a day.</summary>
    public TimeSpan MaxDelay { get; set; } = TimeSpan.FromSeconds(30);

    internal IEnumerable<string> Problems()
    {
        if (BatchSize is < 1 or > 10_000) yield return $"BatchSize must be 1 to 10,000, but is {BatchSize}";
        if (Lease < TimeSpan.FromSeconds(1) || Lease > TimeSpan.FromMinutes(10))
            yield return $"Lease must be 1 second to 10 minutes, but is {Lease}";
        if (FirstDelay < TimeSpan.FromMilliseconds(1) || FirstDelay > TimeSpan.FromHours(1))
            yield return $"FirstDelay must be 1 ms to 1 hour, but is {FirstDelay}";
        if (MaxDelay < FirstDelay || MaxDelay > TimeSpan.FromDays(1))
            yield return $"MaxDelay must be FirstDelay ({FirstDelay}) to a day, but is {MaxDelay}";
    }
}
