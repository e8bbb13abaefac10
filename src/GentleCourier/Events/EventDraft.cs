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

    /// <summary>When the thing happened. Default: now.</summary>
    public DateTimeOffset? Time { get; init; }

    /// <summary>
    /// A draft of an event whose data is <paramref name="contract"/>, read when the draft is added to an outbox.
    /// </summary>
    public static EventDraft Of<TContract>(
        TContract contract, string? subject = null, string? partitionKey = null, string? id = null,
            DateTimeOffset? time = null)
        where TContract : notnull
    {
        ArgumentNullException.ThrowIfNull(contract);
        return new EventDraft((codec, draft) => codec.Encode(contract, draft))
        {
            Id = id,
            Subject = subject,
            PartitionKey = partitionKey,
            Time = time,
        };
    }

    internal EncodedEvent Encode(ContractCodec codec) => encode(codec, this);
}
