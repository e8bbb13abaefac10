using System.Data.Common;
using GentleCourier.Receiving.Handling;

namespace GentleCourier;

/// <summary>One hand-over of an event to a receiver. Not thread-safe.</summary>
public sealed class Delivery<TContract>
{
    internal Delivery(TContract data, CourierEvent @event, string queue, int attempt, InboxTransaction inbox)
    {
        Data = data;
        Event = @event;
        Queue = queue;
        Attempt = attempt;
        Inbox = inbox;
    }

    /// <summary>The event's data.</summary>
    public TContract Data { get; }

    /// <summary>The event itself: id, source, time, subject and so on.</summary>
    public CourierEvent Event { get; }

    /// <summary>The queue that it came from.</summary>
    public string Queue { get; }

    /// <summary>1 when the event is handed over for the first time, and so on.</summary>
    public int Attempt { get; }

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
