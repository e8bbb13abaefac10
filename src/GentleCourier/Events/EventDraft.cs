using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier;

/// <summary>
/// An event to be published: a contract with what the publisher wants to say about it. Not thread-safe.
/// </summary>
public sealed class EventDraft
{
    private readonly Func<ContractCodec, EventDraft, EncodedEvent> encode;

    private EventDraft(Func<ContractCodec, EventDraft, EncodedEvent> encode) => this.encode = encode;

    /// <summary>
    /// The event's id. Set it where the business has a natural one (the gate's own number of a tap): then a request
    /// that comes twice publishes the same event twice, and every inbox absorbs the second. Default: a new UUID version
    /// 7.
    /// </summary>
    public string? Id { get; init; }

    /// <summary>What the event is about, for people and filters.</summary>
    public string? Subject { get; init; }

    /// <summary>
    /// Events with the same key leave the outbox in the order in which they were added. Default: no order.
    /// </summary>
    public string? PartitionKey { get; init; }

    /// <summary>When the thing happened. Default: now; of an event for later, when it is due.</summary>
    public DateTimeOffset? Time { get; init; }

    /// <summary>
    /// When it is to be published; null: at once. With a partition key it leaves in order with what is added when it is
    /// due.
    /// </summary>
    public Due? Due { get; init; }

    /// <summary>
    /// A draft of an event whose data is <paramref name="contract"/>, read when the draft is added to an outbox.
    /// </summary>
    public static EventDraft Of<TContract>(
        TContract contract, string? subject = null, string? partitionKey = null, string? id = null,
            DateTimeOffset? time = null, Due? due = null)
        where TContract : notnull
    {
        ArgumentNullException.ThrowIfNull(contract);
        return new EventDraft((codec, draft) => codec.Encode(contract, draft))
        {
            Id = id,
            Subject = subject,
            PartitionKey = partitionKey,
            Time = time,
            Due = due,
        };
    }

    /// <summary>
    /// A draft of an event of a type that has no class: its data is JSON already, and is published as it is.
    /// </summary>
    /// <param name="type">The wire type.</param>
    /// <param name="json">One JSON value, UTF-8; it is read when the draft is added to an outbox.</param>
    /// <param name="subject">What the event is about, for people and filters.</param>
    /// <param name="partitionKey">Events with the same key leave in the order in which they were added.</param>
    /// <param name="id">The event's id, where the business has a natural one. Default: a new UUID version 7.</param>
    /// <param name="time">When the thing happened. Default: now; of an event for later, when it is due.</param>
    /// <param name="due">When it is to be published; null: at once.</param>
    public static EventDraft OfJson(
        string type, ReadOnlyMemory<byte> json, string? subject = null, string? partitionKey = null, string? id = null,
            DateTimeOffset? time = null, Due? due = null)
    {
        ArgumentNullException.ThrowIfNull(type);
        return new EventDraft((codec, draft) => codec.Encode(type, json, draft))
        {
            Id = id,
            Subject = subject,
            PartitionKey = partitionKey,
            Time = time,
            Due = due,
        };
    }

    internal EventDraft With(string id, DateTimeOffset time) =>
        new(encode) { Id = id, Subject = Subject, PartitionKey = PartitionKey, Time = time };

    internal EncodedEvent Encode(ContractCodec codec) => encode(codec, this);
}
