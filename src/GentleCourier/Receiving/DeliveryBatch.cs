using System.Collections;
using System.Data.Common;
using GentleCourier.Receiving.Handling;

namespace GentleCourier;

/// <summary>Events that are handled together, in the order of the queue. Not thread-safe.</summary>
public sealed class DeliveryBatch<TContract> : IReadOnlyList<BatchedDelivery<TContract>>
{
    private readonly IReadOnlyList<BatchedDelivery<TContract>> items;

    internal DeliveryBatch(string queue, IReadOnlyList<BatchedDelivery<TContract>> items, InboxTransaction inbox)
    {
        Queue = queue;
        this.items = items;
        Inbox = inbox;
    }

    /// <summary>The queue that they came from.</summary>
    public string Queue { get; }

    /// <summary>How many.</summary>
    public int Count => items.Count;

    /// <summary>The event at a place.</summary>
    public BatchedDelivery<TContract> this[int index] => items[index];

    internal InboxTransaction Inbox { get; }

    /// <summary>
    /// The transaction, on the service's store, in which the batch is handled: the rows in the inbox of all events that
    /// succeed, what the receiver writes and the events that it adds to the outbox commit together when it returns.
    /// Write nothing in it for an event that fails. It begins with the first call; the receiver must not end it.
    /// </summary>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <exception cref="CourierException">
    /// The queue is received without an inbox, or the database cannot be used.
    /// </exception>
    /// <exception cref="OperationCanceledException">
    /// Another worker has just handled one of the events: let it pass, the others are handled one at a time.
    /// </exception>
    public Task<DbTransaction> BeginAsync(CancellationToken cancellationToken = default) =>
        Inbox.BeginAsync(null, cancellationToken);

    /// <summary>The events, in order.</summary>
    public IEnumerator<BatchedDelivery<TContract>> GetEnumerator() => items.GetEnumerator();

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}

/// <summary>One event of a batch. Not thread-safe.</summary>
public sealed class BatchedDelivery<TContract>
{
    private readonly ReadDelivery delivery;

    internal BatchedDelivery(TContract data, ReadDelivery delivery)
    {
        Data = data;
        this.delivery = delivery;
    }

    /// <summary>The event's data.</summary>
    public TContract Data { get; }

    /// <summary>The event itself: id, source, time, subject and so on.</summary>
    public CourierEvent Event => delivery.Event;

    /// <summary>1 when the event is handed over for the first time, and so on.</summary>
    public int Attempt => delivery.Attempt;

    /// <summary>How many attempts before this one failed and did not count; as of a single delivery.</summary>
    public int Uncounted => delivery.Uncounted;

    /// <summary>
    /// This event alone has failed, as if a receiver of single events had thrown <paramref name="exception"/>: it comes
    /// again by the queue's policy, after the delay of a <see cref="RetryException"/>, or never after a
    /// <see cref="RejectException"/>.
    /// </summary>
    public void Fail(Exception exception)
    {
        ArgumentNullException.ThrowIfNull(exception);
        delivery.Failure = exception;
    }
}
