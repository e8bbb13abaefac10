using Dapper;
using FerryLine.Contracts;
using GentleCourier;

namespace FerryLine.Notices;

internal sealed class AnnounceDeparture : IReceiver<SailingDeparted>
{
    public Task HandleAsync(Delivery<SailingDeparted> delivery, CancellationToken cancellationToken) =>
        Notice.PinUpAsync(
        delivery, delivery.Data.Sailing, $"{delivery.Data.Sailing} left at {delivery.Data.DepartedAt:HH:mm}.",
            cancellationToken);
}

internal sealed class AnnounceCrowd : IReceiver<DeckNearlyFull>
{
    public Task HandleAsync(Delivery<DeckNearlyFull> delivery, CancellationToken cancellationToken) =>
        Notice.PinUpAsync(
        delivery, delivery.Data.Sailing,
        $"{delivery.Data.Sailing} has {delivery.Data.OnBoard} of {delivery.Data.Limit} on board: standing room only.",
            cancellationToken);
}

internal sealed class AnnounceSailing : IReceiver<SailingReminder>
{
    public Task HandleAsync(Delivery<SailingReminder> delivery, CancellationToken cancellationToken) =>
        Notice.PinUpAsync(
        delivery, delivery.Data.Sailing,
        $"{delivery.Data.Sailing} leaves in an hour, at {delivery.Data.DepartsAt:HH:mm}.", cancellationToken);
}

internal static class Notice
{
    public static async Task PinUpAsync<TContract>(
        Delivery<TContract> delivery, string sailing, string text, CancellationToken cancellationToken)
    {
        // Composing is the slow part, and some notices take longer than others; it is done before the transaction
        // begins.
        await Task.Delay(
            TimeSpan.FromMilliseconds(20 + (sailing.Length + delivery.Event.Id[^1]) % 7 * 20), cancellationToken);

        var transaction = await delivery.BeginAsync(cancellationToken);
        await transaction.Connection!.ExecuteAsync(
            "INSERT INTO notice (event_id, sailing, text) VALUES (@Id, @sailing, @text)",
                new { delivery.Event.Id, sailing, text }, transaction);
    }
}
