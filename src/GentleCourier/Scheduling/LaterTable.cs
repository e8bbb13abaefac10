using System.Data.Common;
using GentleCourier.Tables;

namespace GentleCourier.Scheduling;

/// <summary>Events that wait in a store until they are due, as people and services see and change them.</summary>
internal sealed class LaterTable(ITables tables)
{
    /// <summary>The time of the database, as people name it.</summary>
    public async Task<DateTimeOffset> ReadTimeAsync(CancellationToken cancellationToken = default)
    {
        var time = (DateTimeOffset?)null;
        await tables.RunAsync(
            new Statements("read").Read($"SELECT {Sql.Clock}", row => time = row.TimeOrNull(0)), null,
            cancellationToken).ConfigureAwait(false);
        return time!.Value;
    }

    /// <summary>What waits, the next to be due first.</summary>
    public async Task<IReadOnlyList<LaterEvent>> ReadAsync(LaterFilter which, int limit, LaterEvent? after = null,
        DbTransaction? transaction = null, CancellationToken cancellationToken = default)
    {
        var events = new List<LaterEvent>();
        var isOfFew = which.Id is not null || which.PartitionKey is not null;
        await tables.RunAsync(
            new Statements("read the events for later of").ReadPage(
                $"""
                SELECT f.place AS place, event_id, type, partition_key, f.at AS at, added, event
                FROM ({tables.NextDue(Where(which), isOfFew, after, limit)}) f
                    JOIN courier.outbox_later l ON l.{Sql.Row} = f.place
                ORDER BY at, place
                """,
                "at, place",
                row => events.Add(new LaterEvent(
                    row.Number(0), row.Text(1), row.Text(2), row.TextOrNull(3), row.TimeOrNull(4)!.Value,
                    row.Moment(5), row.Bytes(6)))),
            transaction, cancellationToken).ConfigureAwait(false);
        return events;
    }

    /// <summary>Removes events for good.</summary>
    /// <returns>How many.</returns>
    public async Task<int> CancelAsync(
        LaterFilter which, DbTransaction? transaction = null, CancellationToken cancellationToken = default)
    {
        var gone = 0L;
        await tables.RunAsync(
            new Statements("change the events for later of").Write(
                $"DELETE FROM courier.outbox_later WHERE {Where(which)}", count => gone = count),
            transaction, cancellationToken).ConfigureAwait(false);
        return (int)gone;
    }

    /// <summary>Gives events another time.</summary>
    /// <param name="events">The events, as they were read, with what they say now.</param>
    /// <param name="time">When they are due.</param>
    /// <param name="byClock">Whether that was named by the clock, or is a delay from now on.</param>
    /// <param name="transaction">The caller's; null: one of its own.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>How many were still there.</returns>
    public async Task<int> MoveAsync(IReadOnlyList<LaterEvent> events, DateTimeOffset time, bool byClock,
        DbTransaction? transaction = null, CancellationToken cancellationToken = default)
    {
        var moved = 0L;
        var statements = new Statements("change the events for later of") { Due = time };
        foreach (var @event in events)
        {
            statements.Write(
                $"""
                UPDATE courier.outbox_later SET {tables.SetDue(time, byClock)}, event = {@event.Json}
                WHERE {Sql.Row} = {@event.Row} AND event_id = {@event.Id}
                """,
                count => moved += count);
        }
        await tables.RunAsync(statements, transaction, cancellationToken).ConfigureAwait(false);
        return (int)moved;
    }

    private static Sql Where(LaterFilter which)
    {
        Sql where = $"{true}";
        if (which.Id is { } id) where = $"{where} AND event_id = {id}";
        if (which.PartitionKey is { } key) where = $"{where} AND partition_key = {key}";
        if (which.Type is { } type) where = $"{where} AND type = {type}";
        return where;
    }
}
