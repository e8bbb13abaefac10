namespace GentleCourier.Testing;

/// <summary>What came of handing something to a receiver by hand. Immutable.</summary>
public sealed class AttemptResult
{
    internal AttemptResult(IReadOnlyList<HandledEvent> deliveries, IReadOnlyList<PublishedEvent> published) =>
        (Deliveries, Published) = (deliveries, published);

    /// <summary>What became of each delivery: one, or those of a batch in their order.</summary>
    public IReadOnlyList<HandledEvent> Deliveries { get; }

    /// <summary>What the receiver has published, in its order; with it, what is for later.</summary>
    public IReadOnlyList<PublishedEvent> Published { get; }

    /// <summary>What became of it; of a batch, of its first.</summary>
    public HandledAs Outcome => Deliveries[0].Outcome;

    /// <summary>After what time it comes again; null where it does not.</summary>
    public TimeSpan? Delay => Deliveries[0].Delay;

    /// <summary>Why it was not handled, in one line; null where it was.</summary>
    public string? Reason => Deliveries[0].Reason;

    /// <summary>What the receiver threw; null where it did not.</summary>
    public Exception? Exception => Deliveries[0].Exception;

    /// <summary>In a few lines, for people.</summary>
    public override string ToString() =>
        string.Join('\n', Deliveries.Select(d => d.ToString()).Concat(Published.Select(p => p.ToString())));
}
