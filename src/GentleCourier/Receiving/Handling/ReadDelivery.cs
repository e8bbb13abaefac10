using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Receiving.Handling;

/// <summary>A held delivery whose event could be read.</summary>
internal sealed class ReadDelivery(TakenDelivery held, CourierEvent @event)
{
    private int? hash;

    public TakenDelivery Taken => held;

    public CourierEvent Event => @event;

    public int Attempt => held.Attempts.Attempt;

    public int Uncounted => held.Attempts.Uncounted;

    public EventKey Key => new(@event.Source, @event.Id);

    /// <summary>As the inbox is to know it.</summary>
    public InboxEvent ForInbox => new(@event.Source, @event.Id, hash ??= (int)(DataHash.Of(@event) >> 32));

    /// <summary>While a brake is on, whether it is the one that is tried.</summary>
    public bool IsTrial { get; set; }

    /// <summary>Why it failed within a batch that as a whole did not.</summary>
    public Exception? Failure { get; set; }
}
