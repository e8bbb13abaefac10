namespace GentleCourier.Engines;

/// <summary>
/// How far a broker had come when it confirmed something. A store remembers it, so that a broker that is not the one it
/// was (a file that was replaced, a backup that was restored, a replica that lagged behind) is noticed before it is
/// trusted with more.
/// </summary>
/// <param name="Generation">Drawn when the broker's tables were made.</param>
/// <param name="Place">Grows with everything that is published.</param>
public readonly record struct BrokerMark(string Generation, long Place);

/// <summary>What came of publishing.</summary>
/// <param name="Results">What became of each event, in the order of the list.</param>
/// <param name="Mark">How far the broker has come by it; null where it does not say.</param>
public readonly record struct Published(IReadOnlyList<PublishResult> Results, BrokerMark? Mark);

/// <summary>A broker is not the one that it was, or has fallen behind; nothing was published.</summary>
public sealed class BrokerChangedException : CourierException
{
    /// <param name="broker">Its name, for people.</param>
    /// <param name="isAnother">Whether it was made anew; otherwise it has fallen behind.</param>
    public BrokerChangedException(string broker, bool isAnother) : base(
        $"{broker} is not as this outbox left it: it "
        + (isAnother ? "was made anew, or another one is at its place"
            : "has fallen behind, like a backup or a replica")
        + ", so events that it had confirmed may be missing in it; publish those again from the service's own tables "
        + "(ids that the business has make that safe), or put the right broker back; to go on with this one, say "
        + "`courier outbox accept-broker`") => IsAnother = isAnother;

    /// <summary>Whether it was made anew.</summary>
    public bool IsAnother { get; }
}
