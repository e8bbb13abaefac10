using GentleCourier.Receiving.Handling;

namespace GentleCourier;

/// <summary>
/// Code around every call of a receiver, such as one that sets the tenant or the culture. What it throws counts as
/// thrown by the receiver. It may be called by many threads at the same moment.
/// </summary>
/// <param name="handling">What is handled, by whom.</param>
/// <param name="next">
/// Goes on to the receiver. It must be called, or the event counts as handled without it; called a second time, it
/// throws.
/// </param>
/// <param name="cancellationToken">Cancelled at the handler's time limit, and at a stop; hand it on.</param>
public delegate Task HandlingStep(
    Handling handling, Func<CancellationToken, Task> next, CancellationToken cancellationToken);

/// <summary>One call of a receiver, over one event or a batch. Not thread-safe.</summary>
public sealed class Handling
{
    private readonly Incoming incoming;

    internal Handling(Incoming incoming, Type receiver)
    {
        this.incoming = incoming;
        Receiver = receiver;
        Events = [.. incoming.Deliveries.Select(d => d.Event)];
    }

    /// <summary>The queue.</summary>
    public string Queue => incoming.Queue;

    /// <summary>The receiver's class.</summary>
    public Type Receiver { get; }

    /// <summary>The events: one, or those of a batch, in their order.</summary>
    public IReadOnlyList<CourierEvent> Events { get; }

    /// <summary>Which attempt it is, from 1 on; of a batch, the furthest of its events.</summary>
    public int Attempt => incoming.Deliveries.Max(d => d.Attempt);

    /// <summary>The services of this call's scope, from which the receiver is built as well.</summary>
    public IServiceProvider Services => incoming.Services;

    internal InboxTransaction Inbox => incoming.Inbox;
}
