using Dapper;
using FerryLine.Contracts;
using GentleCourier.Receiving;

namespace FerryLine.DeckCount;

internal sealed class CloseSailing : IReceiver<SailingDeparted>
{
    public async Task HandleAsync(Delivery<SailingDeparted> delivery, CancellationToken cancellationToken)
    {
        var transaction = await delivery.BeginAsync(cancellationToken);
        await transaction.Connection!.ExecuteAsync(
            "INSERT INTO departure (event_id, sailing) VALUES (@Id, @Sailing)", new { delivery.Event.Id, delivery.Data.Sailing }, transaction);
    }
}
