namespace GentleCourier.Engines;

/// <summary>
/// What a broker keeps of the stores whose relays publish to it: the last publish of each that it has taken. So one
/// that is not the broker that it was (a backup that was restored, a standby that lagged behind, one that was made
/// anew) is noticed before it is trusted with more. Thread-safe.
/// </summary>
internal interface IStamps
{
    /// <summary>
    /// The last publish of a store that this broker has. Where it has none, one that comes before all others is written
    /// down, for the first to be put in its place.
    /// </summary>
    /// <param name="store">The store's identity.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<Stamped> ReadLastAsync(string store, CancellationToken cancellationToken = default);

    /// <summary>
    /// Publishes as <see cref="IBroker.PublishAsync"/> does, and in the same transaction puts a stamp in the place of
    /// the one before.
    /// </summary>
    /// <exception cref="StampGoneException">
    /// The one before is not there, or the broker is another: nothing was published. Read the last one to know why.
    /// </exception>
    Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, Stamping stamping, CancellationToken cancellationToken = default);
}

/// <summary>
/// One try to publish something: drawn anew for each, and never used again, so that what was taken can be told from
/// what was not.
/// </summary>
/// <param name="Term">The term of the relay that leads.</param>
/// <param name="Number">The how many'th try of this term.</param>
internal readonly record struct Stamp(long Term, long Number) : IComparable<Stamp>
{
    /// <summary>By term, then by number.</summary>
    public int CompareTo(Stamp other) =>
        Term == other.Term ? Number.CompareTo(other.Number) : Term.CompareTo(other.Term);

    /// <summary>Whether one came before another.</summary>
    public static bool operator <(Stamp left, Stamp right) => left.CompareTo(right) < 0;

    /// <summary>Whether one came after another.</summary>
    public static bool operator >(Stamp left, Stamp right) => left.CompareTo(right) > 0;

    /// <summary>Whether one did not come after another.</summary>
    public static bool operator <=(Stamp left, Stamp right) => left.CompareTo(right) <= 0;

    /// <summary>Whether one did not come before another.</summary>
    public static bool operator >=(Stamp left, Stamp right) => left.CompareTo(right) >= 0;
}

/// <summary>What a broker has of a store.</summary>
/// <param name="Generation">Which broker it is: drawn when its tables were made.</param>
/// <param name="Address">Where it is: server, port, database, schema, and nothing that may differ for the same.</param>
/// <param name="Last">The last publish that it has.</param>
internal readonly record struct Stamped(string Generation, string Address, Stamp Last);

/// <summary>What is put in the place of what, with a publish.</summary>
/// <param name="Store">The store's identity.</param>
/// <param name="Generation">Which broker it is for.</param>
/// <param name="Before">The stamp that has to be there, and goes.</param>
/// <param name="With">The one that comes.</param>
internal readonly record struct Stamping(string Store, string Generation, Stamp Before, Stamp With);

/// <summary>What a store remembers of the brokers that have confirmed something to it.</summary>
/// <param name="Identity">Which store it is.</param>
/// <param name="Confirmed">The last that each has confirmed.</param>
internal sealed record StoreMemory(string Identity, IReadOnlyList<Confirmed> Confirmed);

/// <summary>The last publish that a broker has confirmed.</summary>
/// <param name="Generation">Which broker.</param>
/// <param name="Address">Where it was then.</param>
/// <param name="Stamp">The publish.</param>
internal readonly record struct Confirmed(string Generation, string Address, Stamp Stamp);

/// <summary>A broker has not the stamp that it had, or is another: nothing was published.</summary>
internal sealed class StampGoneException(string broker) : CourierException(
    $"{broker} has another last publish of this outbox than the relay has seen: others publish for it, or the broker "
    + "is not the one it was; it is looked at again");

/// <summary>A broker is not the one that it was, or has fallen behind; nothing was published.</summary>
internal sealed class BrokerChangedException : CourierException
{
    /// <param name="broker">Its name, for people.</param>
    /// <param name="isAnother">Whether it was made anew; otherwise it has fallen behind.</param>
    public BrokerChangedException(string broker, bool isAnother) : base(
        $"{broker} is not as this outbox left it: it "
        + (isAnother ? "was made anew, or another one is at its place"
            : "has fallen behind, like a backup or a standby that was promoted")
        + ", so events that it had confirmed may be missing in it; publish those again from the service's own tables "
        + "(ids that the business has make that safe), or put the right broker back; to go on with this one, say "
        + "`courier outbox accept-broker`") => IsAnother = isAnother;

    /// <summary>Whether it was made anew.</summary>
    public bool IsAnother { get; }
}
