using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.ByHand;

/// <summary>
/// Events that stayed in the outbox after they had been tried, and their way out. Thread-safe. A relay may have one of
/// them in hand at the same moment: then it is published as it was, too, and inboxes absorb what comes twice.
/// </summary>
public interface IHeldEvents
{
    /// <summary>Events that are held with their last error, or refused for good; the oldest first.</summary>
    /// <param name="limit">How many at the most; fewer, where they have more than 16 MiB.</param>
    /// <param name="after">Only those behind this <see cref="HeldEvent.Row"/>.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>None, where there are no more.</returns>
    Task<IReadOnlyList<HeldEvent>> ReadHeldAsync(
        int limit, long after = 0, CancellationToken cancellationToken = default);

    /// <summary>One of them; null where there is none.</summary>
    Task<HeldEvent?> FindHeldAsync(long row, CancellationToken cancellationToken = default);

    /// <summary>
    /// Has events tried again, all in one transaction: one that is held is due at once, with those of its partition key
    /// behind it. One that was refused, or has been repaired, leaves its place and is as if it had just been added. May
    /// be repeated after an error: what has left its place is not added twice.
    /// </summary>
    /// <returns>For each whether it was still there, in the order of the list.</returns>
    Task<IReadOnlyList<bool>> TryAgainAsync(
        IReadOnlyList<HeldReturn> events, CancellationToken cancellationToken = default);

    /// <summary>
    /// Removes events for good, all in one transaction: they are never published. What waited behind one by its
    /// partition key has its turn. May be repeated after an error.
    /// </summary>
    /// <returns>For each whether it was still there, in the order of the list.</returns>
    Task<IReadOnlyList<bool>> DiscardHeldAsync(
        IReadOnlyList<HeldEvent> events, CancellationToken cancellationToken = default);
}

/// <summary>An event that stayed in the outbox after it had been tried.</summary>
/// <param name="Row">The engine's number of it; once it is gone, another may get it.</param>
/// <param name="Id">The event's id.</param>
/// <param name="Type">The event's wire type.</param>
/// <param name="Attempts">How often it was tried.</param>
/// <param name="LastError">Why it was not taken.</param>
/// <param name="Due">When it is tried again; null: never, it has been refused for good.</param>
/// <param name="Added">When it was added.</param>
public sealed record HeldEvent(
    long Row, string Id, string Type, int Attempts, string LastError, DateTimeOffset? Due, DateTimeOffset Added)
{
    /// <summary>The event's partition key.</summary>
    public string? PartitionKey { get; init; }

    /// <summary>To which queue, or address of the broker's own, alone it goes; null: wherever it is routed.</summary>
    public string? Address { get; init; }

    /// <summary>The event in CloudEvents' JSON format, UTF-8.</summary>
    public ReadOnlyMemory<byte> Json { get; init; }
}

/// <summary>An event of an outbox that is to be tried again.</summary>
public sealed class HeldReturn(HeldEvent held, ReadOnlyMemory<byte>? repaired = null)
{
    /// <summary>The event, as it was read.</summary>
    public HeldEvent Event { get; } = held;

    /// <summary>What goes instead of it, in CloudEvents' JSON format; null: the event as it is.</summary>
    public ReadOnlyMemory<byte>? Repaired { get; } = repaired;

    /// <summary>Whether it is added anew; otherwise it is only due.</summary>
    internal bool IsAnew => Repaired is not null || Event.Due is null;

    /// <summary>What is added anew.</summary>
    internal EncodedEvent Anew => (Repaired is { } json ? Encoded(json)
        : new(Event.Id, Event.Type, Event.PartitionKey, Event.Json)) with { Address = Event.Address };

    private static EncodedEvent Encoded(ReadOnlyMemory<byte> json)
    {
        var repaired = EventJson.Read(json);
        return new(repaired.Id, repaired.Type, repaired.PartitionKey, json);
    }
}
