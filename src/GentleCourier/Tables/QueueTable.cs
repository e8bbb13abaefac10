using GentleCourier.ByHand;
using GentleCourier.Engines;

namespace GentleCourier.Tables;

/// <summary>Reads the events of a queue in a database, without taking any.</summary>
/// <param name="tables">Where they are.</param>
/// <param name="rows">
/// Of the queue with this number so many, from a place on: <c>part</c> (0, or 1 with a time), <c>at</c>, <c>place</c>,
/// <c>event</c>, attempts, state, until when, arrived, error, history, and who has it.
/// </param>
internal sealed class QueueTable(ITables tables, Func<long, QueueCursor, int, Sql> rows)
{
    public async Task<QueueLook> ReadAsync(long queue, int limit, string? beyond, CancellationToken cancellationToken)
    {
        var events = new List<QueuedEvent>();
        await tables.RunAsync(
            new Statements("look into").ReadPage(
                rows(queue, QueueCursor.Parse(beyond), limit), "part, at, place", row => events.Add(Read(row))),
            null, cancellationToken).ConfigureAwait(false);
        return new QueueLook(events);
    }

    private static QueuedEvent Read(Row row) => new()
    {
        Place = (row.Number(0) == 0 ? new QueueCursor(false, default, row.Number(2))
            : new QueueCursor(true, row.TimeOrNull(1)!.Value, row.Number(2))).ToString(),
        Json = row.Bytes(3),
        Attempts = (int)row.Number(4),
        State = (QueuedState)row.Number(5),
        Until = row.MomentOrNull(6),
        Arrived = row.Moment(7),
        LastError = row.TextOrNull(8),
        History = HistoryJson.Read(row.TextOrNull(9)),
        Worker = row.TextOrNull(10),
    };
}
