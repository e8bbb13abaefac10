using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>A held delivery whose event could be read.</summary>
internal sealed class ReadDelivery(Held held, Event @event)
{
    public Held Held => held;

    public Event Event => @event;

    public int Attempt => held.Attempt;

    public EventKey Key => new(@event.Source, @event.Id);

    /// <summary>While a brake is on, whether it is the one that is tried.</summary>
    public bool IsTrial { get; set; }

    /// <summary>Why it failed within a batch that as a whole did not.</summary>
    public Exception? Failure { get; set; }
}
