using FerryLine.Contracts;
using GentleCourier;

namespace FerryLine.DeckCount;

internal sealed class CloseSailing(DeckContext decks) : IReceiver<SailingDeparted>
{
    public Task HandleAsync(Delivery<SailingDeparted> delivery, CancellationToken cancellationToken)
    {
        decks.Departures.Add(new Departure { EventId = delivery.Event.Id, Sailing = delivery.Data.Sailing });
        return decks.SaveChangesAsync(cancellationToken);
    }
}
