using GentleCourier.ByHand;
using GentleCourier.Engines;

namespace GentleCourier.Tables;

/// <summary>Reads the events of a queue in a database, without taking any.</summary>
/// <param name="tables">Where they are.</param>
/// <param name="rows">
/// Of a queue, by what asks for its number, so many from a place on: <c>part</c> (0, or 1 with a time), <c>at</c>,
/// <c>place</c>, <c>event</c>, attempts, state, until when, arrived, error, history, and who has it.
/// </param>
internal sealed class QueueTable(ITables tables, Func<Sql, QueueCursor, int, Sql> rows)
{
    /// <returns>Null where there is no such queue.</returns>
    public async Task<QueueLook?> ReadAsync(
        string queue, int limit, string? beyond, CancellationToken cancellationToken)
    {
        var (isThere, events) = (false, new List<QueuedEvent>());
        Sql id = $"(SELECT id FROM courier.queue WHERE name = {queue})";
        await tables.RunAsync(
            new Statements("look into")
                .Read($"SELECT 1 FROM courier.queue WHERE name = {queue}", _ => isThere = true)
                .ReadPage(
                    rows(id, QueueCursor.Parse(beyond), limit), "part, at, place", row => events.Add(Read(row))),
            null, cancellationToken).ConfigureAwait(false);
        return isThere ? new QueueLook(events) : null;
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
