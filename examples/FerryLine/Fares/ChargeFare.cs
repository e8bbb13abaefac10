using Dapper;
using FerryLine.Contracts;
using GentleCourier;

namespace FerryLine.Fares;

internal sealed class ChargeFare(PriceList prices) : IReceiver<PassengerBoarded>
{
    public async Task HandleAsync(Delivery<PassengerBoarded> delivery, CancellationToken cancellationToken)
    {
        var boarded = delivery.Data;
        var fare = prices.CentsFrom(boarded.Pier)
            ?? throw new RejectException($"there is no pier '{boarded.Pier}', so nobody can have boarded there");
        var day = DateOnly.FromDateTime(boarded.TappedAt.UtcDateTime);
        // A gate's clock that is a day ahead may be noticed and put right, so this one is worth trying again.
        if (day > ServiceDay.Today)
            throw new InvalidOperationException(
                $"the tap is dated {day:yyyy-MM-dd}, but today is {ServiceDay.Today:yyyy-MM-dd}: is the gate's clock "
                + "ahead?");

        var transaction = await delivery.BeginAsync(cancellationToken);
        var connection = transaction.Connection!;
        // Two charges of one card must not both see room under the cap: the second waits here for the first.
        await connection.ExecuteAsync(
            "INSERT INTO card (number) VALUES (@Card) ON CONFLICT (number) DO UPDATE SET number = excluded.number",
                new { boarded.Card }, transaction);
        var charged = await connection.ExecuteScalarAsync<int>(
            "SELECT coalesce(sum(cents), 0) FROM charge WHERE card = @Card", new { boarded.Card }, transaction);
        var cents = Math.Min(fare, PriceList.DailyCapCents - charged);
        await connection.ExecuteAsync(
            "INSERT INTO charge (event_id, card, cents) VALUES (@Id, @Card, @cents)",
                new { delivery.Event.Id, boarded.Card, cents }, transaction);
    }
}
