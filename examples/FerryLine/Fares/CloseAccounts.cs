using Dapper;
using FerryLine.Contracts;
using GentleCourier;

namespace FerryLine.Fares;

/// <summary>Writes down the takings: the event's time says of when.</summary>
internal sealed class CloseAccounts : IReceiver<AccountsDue>
{
    public async Task HandleAsync(Delivery<AccountsDue> delivery, CancellationToken cancellationToken)
    {
        var transaction = await delivery.BeginAsync(cancellationToken);
        await transaction.Connection!.ExecuteAsync(
            "INSERT INTO closing (event_id, closed_at, cents) "
            + "SELECT @Id, @Time, coalesce(sum(cents), 0) FROM charge",
            new { delivery.Event.Id, Time = delivery.Event.Time!.Value.ToUniversalTime() }, transaction);
    }
}
