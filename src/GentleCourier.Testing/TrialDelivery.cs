namespace GentleCourier.Testing;

/// <summary>What is said about a delivery that a test makes by hand; all of it may be left out.</summary>
public sealed record TrialDelivery
{
    /// <summary>Which attempt it is, from 1 on.</summary>
    public int Attempt { get; init; } = 1;

    /// <summary>How many attempts before it did not count.</summary>
    public int Uncounted { get; init; }

    /// <summary>
    /// The event's id, subject, partition key, time, headers and so on, as its publisher would say them. The same id a
    /// second time is a second copy.
    /// </summary>
    public EventOptions Event { get; init; } = new();

    /// <summary>The event's source: in whose name it was published. An absolute URI, or a part of one.</summary>
    public string Source { get; init; } = "urn:trial";
}
