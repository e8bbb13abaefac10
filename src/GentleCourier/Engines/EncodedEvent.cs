namespace GentleCourier.Engines;

/// <summary>
/// An event as it lies in an outbox and travels to a broker: already encoded, with the few attributes beside it that
/// routing and ordering need, so that nothing on the way has to read JSON.
/// </summary>
/// <param name="Id">The event's id.</param>
/// <param name="Type">The event's wire type.</param>
/// <param name="PartitionKey">The event's ordering key, if it has one.</param>
/// <param name="Json">The whole event in CloudEvents' JSON format, UTF-8.</param>
internal readonly record struct EncodedEvent(string Id, string Type, string? PartitionKey, ReadOnlyMemory<byte> Json)
{
    /// <summary>
    /// To which queue alone it goes, or address of the broker's own; null: wherever events of its type are routed.
    /// </summary>
    public string? Address { get; init; }

    /// <summary>
    /// For how long it has waited in an outbox, by the store's clock, as far as that is more than a second; null: not
    /// so long.
    /// </summary>
    public TimeSpan? OutboxWait { get; init; }

    /// <summary>So much of it, if it is worth to be told.</summary>
    internal static TimeSpan? WaitOf(long milliseconds) =>
        milliseconds > 1000 ? TimeSpan.FromMilliseconds(milliseconds) : null;
}
