using GentleCourier.Receiving.Handling;

namespace GentleCourier;

/// <summary>
/// Code around every call of a receiver, such as one that sets the tenant or the culture. What it throws counts as
/// thrown by the receiver; what it catches counts as thrown, too, unless it says <see cref="Handling.Accept"/>. It may
/// be called by many threads at the same moment.
/// </summary>
/// <param name="handling">What is handled, by whom.</param>
/// <param name="next">
/// Goes on to the receiver; to be awaited. Where it is not called the attempt fails, unless
/// <see cref="Handling.Accept"/> is; called a second time, it throws.
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

    /// <summary>
    /// The events count as handled, though the receiver was not called, or has failed. Whatever was written in the
    /// delivery's transaction until then is committed.
    /// </summary>
    public void Accept() => IsAccepted = true;

    internal bool IsAccepted { get; private set; }

    /// <summary>The receiver's run; null: it has not been called.</summary>
    internal Task? Call { get; set; }

    internal InboxTransaction Inbox => incoming.Inbox;
}
