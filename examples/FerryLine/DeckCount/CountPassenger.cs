using FerryLine.Contracts;
using GentleCourier;
using Microsoft.EntityFrameworkCore;

namespace FerryLine.DeckCount;

internal sealed class CountPassenger(Timetable timetable, DeckContext decks) : IReceiver<PassengerBoarded>
{
    public async Task HandleAsync(Delivery<PassengerBoarded> delivery, CancellationToken cancellationToken)
    {
        var boarded = delivery.Data;
        var limit = timetable.LimitOf(boarded.Sailing)
            ?? throw new RejectException($"there is no sailing '{boarded.Sailing}' in the timetable");
        var day = DateOnly.FromDateTime(boarded.TappedAt.UtcDateTime);
        if (day > ServiceDay.Today)
            throw new RejectException($"the tap is dated {day:yyyy-MM-dd}, and that day's sailings have not begun");

        decks.Boardings.Add(new Boarding { EventId = delivery.Event.Id, Sailing = boarded.Sailing });
        // The deck's row is locked until the commit, so that no two passengers are counted as the same one.
        var counted = await decks.Database.SqlQuery<int>(
            $"""
            INSERT INTO deck (sailing, on_board) VALUES ({boarded.Sailing}, 1)
            ON CONFLICT (sailing) DO UPDATE SET on_board = deck.on_board + 1 RETURNING on_board AS "Value"
            """).ToListAsync(cancellationToken);

        // Exactly one passenger is the one who makes it nearly full.
        var onBoard = counted.Single();
        if (onBoard == limit * 9 / 10)
        {
            var report = decks.AddEvent(
                new DeckNearlyFull(boarded.Sailing, onBoard, limit), new() { Subject = boarded.Sailing });
            await decks.Decks.Where(d => d.Sailing == boarded.Sailing)
                .ExecuteUpdateAsync(d => d.SetProperty(x => x.NearlyFullEvent, report), cancellationToken);
        }
        await decks.SaveChangesAsync(cancellationToken);
    }
}
