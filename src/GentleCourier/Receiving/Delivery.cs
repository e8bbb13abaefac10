using System.Data.Common;
using GentleCourier.Receiving.Handling;

namespace GentleCourier;

/// <summary>One hand-over of an event to a receiver. Not thread-safe.</summary>
public sealed class Delivery<TContract>
{
    internal Delivery(TContract data, ReadDelivery delivery, string queue, InboxTransaction inbox)
    {
        Data = data;
        Event = delivery.Event;
        Queue = queue;
        Attempt = delivery.Attempt;
        Uncounted = delivery.Uncounted;
        Inbox = inbox;
    }

    /// <summary>The event's data.</summary>
    public TContract Data { get; }

    /// <summary>The event itself: id, source, time, subject and so on.</summary>
    public CourierEvent Event { get; }

    /// <summary>The queue that it came from.</summary>
    public string Queue { get; }

    /// <summary>
    /// 1 when the event is handed over for the first time, and so on: those that count, up to
    /// <see cref="ReceiverOptions.MaxAttempts"/>.
    /// </summary>
    public int Attempt { get; }

    /// <summary>
    /// How many attempts before this one failed and did not count, since all of its type failed alike, or something
    /// around the receiver did. SQLite and PostgreSQL keep it with the event; of a broker that does not it is what this
    /// process has seen. For a fallback of one's own after so many failures, whoever is to blame, take
    /// <c>Attempt + Uncounted</c>.
    /// </summary>
    public int Uncounted { get; }

    internal InboxTransaction Inbox { get; }

    /// <summary>
    /// The transaction, on the service's store, in which the event is handled: the row in the inbox, what the receiver
    /// writes and the events that it adds to the outbox commit together when it returns, and are rolled back together
    /// when it throws. It begins with the first call, so do slow work before it; the receiver must not end it.
    /// </summary>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <exception cref="CourierException">
    /// The queue is received without an inbox, or the database cannot be used.
    /// </exception>
    /// <exception cref="OperationCanceledException">
    /// Another worker has just handled a copy of this event: let it pass, the delivery is accepted without effect.
    /// </exception>
    public Task<DbTransaction> BeginAsync(CancellationToken cancellationToken = default) =>
        Inbox.BeginAsync(null, cancellationToken);
}
