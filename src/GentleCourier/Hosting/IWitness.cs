using GentleCourier.Engines;
using GentleCourier.Receiving.Handling;

namespace GentleCourier.Hosting;

/// <summary>
/// Sees what goes on in a host, as tests need it: registered as a service, or absent. It must be quick, and not throw,
/// save where <see cref="Passes"/> is to break something. Thread-safe.
/// </summary>
internal interface IWitness
{
    /// <summary>The broker has taken an event of the store's outbox.</summary>
    void Relayed(EncodedEvent @event);

    /// <summary>A receiver is about to be called; until <see cref="Ended"/>, in the same flow of execution.</summary>
    void Begins(QueueBinding binding, IReadOnlyList<ReadDelivery> deliveries);

    /// <summary>It has ended.</summary>
    /// <param name="binding">The queue's.</param>
    /// <param name="deliveries">As begun.</param>
    /// <param name="tried">Those that had not been handled before.</param>
    /// <param name="result">What came of them; null where there were none.</param>
    void Ended(QueueBinding binding, IReadOnlyList<ReadDelivery> deliveries, IReadOnlyList<ReadDelivery> tried,
        Result? result);

    /// <summary>The broker knows what becomes of a delivery.</summary>
    void Settled(QueueBinding binding, TakenDelivery delivery, Outcome outcome);

    /// <summary>A <see cref="FaultPoint"/> is passed in what the host has started.</summary>
    void Passes(string place);
}

/// <summary>
/// The clock of what the library does by itself: the application's, unless a test is to know whose timers are whose.
/// </summary>
/// <param name="Time">For whatever keeps an event waiting.</param>
/// <param name="Aside">For what looks now and then whether there is something to do. It shows the same time.</param>
internal sealed record CourierClock(TimeProvider Time, TimeProvider Aside);
