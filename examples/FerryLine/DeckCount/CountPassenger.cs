using Dapper;
using FerryLine.Contracts;
using GentleCourier.Publishing;
using GentleCourier.Receiving;

namespace FerryLine.DeckCount;

internal sealed class CountPassenger(Timetable timetable, IOutbox outbox) : IReceiver<PassengerBoarded>
{
    public async Task HandleAsync(Delivery<PassengerBoarded> delivery, CancellationToken cancellationToken)
    {
        var boarded = delivery.Data;
        var limit = timetable.LimitOf(boarded.Sailing)
            ?? throw new RejectException($"there is no sailing '{boarded.Sailing}' in the timetable");
        var day = DateOnly.FromDateTime(boarded.TappedAt.UtcDateTime);
        if (day > ServiceDay.Today)
            throw new RejectException($"the tap is dated {day:yyyy-MM-dd}, and that day's sailings have not begun");

        var transaction = await delivery.BeginAsync(cancellationToken);
        var connection = transaction.Connection!;
        await connection.ExecuteAsync(
            "INSERT INTO boarding (event_id, sailing) VALUES (@Id, @Sailing)", new { delivery.Event.Id, boarded.Sailing }, transaction);
        var onBoard = await connection.ExecuteScalarAsync<int>(
            """
            INSERT INTO deck (sailing, on_board) VALUES (@Sailing, 1)
            ON CONFLICT (sailing) DO UPDATE SET on_board = deck.on_board + 1 RETURNING on_board
            """,
            new { boarded.Sailing }, transaction);

        // Exactly one passenger is the one who makes it nearly full.
        if (onBoard != limit * 9 / 10) return;
        var report = await outbox.AddAsync(
            transaction, new DeckNearlyFull(boarded.Sailing, onBoard, limit), subject: boarded.Sailing, cancellationToken: cancellationToken);
        await connection.ExecuteAsync(
            "UPDATE deck SET nearly_full_event = @report WHERE sailing = @Sailing", new { report, boarded.Sailing }, transaction);
    }
}
