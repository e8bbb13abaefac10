
namespace GentleCourier;

/// <summary>What a publisher wants to say about an event, beside its data. All of it may be left out.</summary>
public sealed record EventOptions
{
    /// <summary>Nothing is said: an id of its own, at once, in no order.</summary>
    internal static EventOptions None { get; } = new();

    /// <summary>
    /// The event's id. Set it where the business has a natural one (the gate's own number of a tap): then a request
    /// that comes twice publishes the same event twice, and every inbox absorbs the second. Default: a new UUID version
    /// 7.
    /// </summary>
    public string? Id { get; init; }

    /// <summary>What the event is about, for people and filters; up to 1,024 characters.</summary>
    public string? Subject { get; init; }

    /// <summary>
    /// Events with the same key leave the outbox in the order in which they were added. Up to 255 characters; default:
    /// no order.
    /// </summary>
    public string? PartitionKey { get; init; }

    /// <summary>When the thing happened. Default: now; of an event for later, when it is due.</summary>
    public DateTimeOffset? Time { get; init; }

    /// <summary>
    /// When it is to be published; null: at once. Until then it can be cancelled with <see cref="ILaterEvents"/>. With
    /// a partition key it leaves in order with what is added when it is due.
    /// </summary>
    public DueTime? Due { get; init; }

    /// <summary>
    /// To what larger matter it belongs, such as an order or a request (CloudEvents extension <c>correlationid</c>); up
    /// to 255 characters. Default: where a handler publishes it, that of the event which is handled, or its id.
    /// </summary>
    public string? CorrelationId { get; init; }

    /// <summary>
    /// Headers of one's own: extension attributes of CloudEvents. A name has 1 to 20 lower-case letters and digits, a
    /// value up to 1,024 characters; there may be 50.
    /// </summary>
    public IReadOnlyDictionary<string, string>? Extensions { get; init; }
}
