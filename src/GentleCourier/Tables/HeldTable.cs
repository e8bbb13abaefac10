using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Publishing;

namespace GentleCourier.Tables;

/// <summary>The events that a store's relay holds, by hand.</summary>
internal sealed class HeldTable(ITables tables) : IHeldEvents
{
    public async Task<IReadOnlyList<HeldEvent>> ReadHeldAsync(
        int limit, long after, CancellationToken cancellationToken)
    {
        var held = new List<HeldEvent>();
        await ReadAsync(
            held, $"SELECT * FROM courier.outbox_held WHERE {Sql.Row} > {after} ORDER BY {Sql.Row} LIMIT {limit}",
            cancellationToken).ConfigureAwait(false);
        return held;
    }

    public async Task<HeldEvent?> FindHeldAsync(long row, CancellationToken cancellationToken)
    {
        var held = new List<HeldEvent>();
        await ReadAsync(held, $"SELECT * FROM courier.outbox_held WHERE {Sql.Row} = {row}", cancellationToken)
            .ConfigureAwait(false);
        return held.FirstOrDefault();
    }

    private Task ReadAsync(List<HeldEvent> held, Sql rows, CancellationToken cancellationToken) => tables.RunAsync(
        new Statements("read").ReadPage(
            $"""
            SELECT h.{Sql.Row} AS place, event_id, h.type, attempts, error,
                CASE WHEN h.due IS NOT NULL THEN coalesce(o.due, k.due, h.due) END, added, h.partition_key, event,
                address
            FROM ({rows}) h LEFT JOIN courier.held_key k ON k.partition_key = h.partition_key
                LEFT JOIN courier.held_obstacle o ON o.waits_for = h.waits_for
            ORDER BY place
            """,
            "place",
            row => held.Add(
                new HeldEvent(row.Number(0), row.Text(1), row.Text(2), (int)row.Number(3), row.Text(4),
                    row.MomentOrNull(5), row.Moment(6))
                {
                    Address = row.TextOrNull(9),
                    PartitionKey = HeldKeys.KeyOf(row.TextOrNull(9), row.TextOrNull(7)),
                    Json = row.Bytes(8),
                })),
        null, cancellationToken);

    public async Task<IReadOnlyList<bool>> TryAgainAsync(
        IReadOnlyList<HeldReturn> events, CancellationToken cancellationToken)
    {
        if (events.Count == 0) return [];
        var were = new bool[events.Count];
        var statements = new Statements("try events again in") { AddsEvents = true };
        for (var i = 0; i < were.Length; i++)
        {
            var (at, held, anew) = (i, events[i].Event, events[i].IsAnew);
            var change = Delete(held);
            if (!anew) change = $"UPDATE courier.outbox_held SET due = {Sql.Now}, waits_for = NULL WHERE {Is(held)}";
            IReadOnlyList<Sql> then = [.. KeyIsDue(held), .. anew ? Anew(events[i].Anew) : []];
            statements.Write(change, count => were[at] = count > 0, then);
        }
        await tables.RunAsync(statements, null, cancellationToken).ConfigureAwait(false);
        return were;
    }

    public async Task<IReadOnlyList<bool>> DiscardHeldAsync(
        IReadOnlyList<HeldEvent> events, CancellationToken cancellationToken)
    {
        var were = new bool[events.Count];
        var statements = new Statements("discard events of");
        for (var i = 0; i < were.Length; i++)
        {
            var at = i;
            statements.Write(Delete(events[i]), count => were[at] = count > 0, KeyIsDue(events[i]));
        }
        await tables.RunAsync(statements, null, cancellationToken).ConfigureAwait(false);
        return were;
    }

    /// <summary>What is added anew follows what is there; what goes to one address stays held, and is due.</summary>
    private static IReadOnlyList<Sql> Anew(EncodedEvent @event)
    {
        if (@event.Address is null)
        {
            return [$"""
                INSERT INTO courier.outbox (event_id, type, partition_key, added, event)
                SELECT {@event.Id}, {@event.Type}, {@event.PartitionKey}, {Sql.Now}, {@event.Json} WHERE {Sql.Changed}
                """];
        }
        var key = HeldKeys.Of(@event.Address, @event.PartitionKey);
        Sql held = $"""
            INSERT INTO courier.outbox_held
                ({Sql.Row}, event_id, type, partition_key, added, event, address, attempts, due, error)
            SELECT {Sql.NextRow}, {@event.Id}, {@event.Type}, {key}, {Sql.Now}, {@event.Json}, {@event.Address}, 0,
                {Sql.Now}, 'to be tried again' WHERE {Sql.Changed}
            """;
        // The key first: whoever finds nothing held by it, and drops it, has it locked.
        return key is null ? [held] : [$"""
            INSERT INTO courier.held_key (partition_key, due, flows) SELECT {key}, {Sql.Now}, {false}
            WHERE {Sql.Changed} ON CONFLICT (partition_key) DO UPDATE SET due = excluded.due
            """, held];
    }

    /// <summary>It may have been the oldest of its key, for which all others waited.</summary>
    private static IReadOnlyList<Sql> KeyIsDue(HeldEvent held) =>
        HeldKeys.Of(held.Address, held.PartitionKey) is not { } key ? []
            : [$"UPDATE courier.held_key SET due = {Sql.Now} WHERE partition_key = {key} AND {Sql.Changed}"];

    private static Sql Delete(HeldEvent held) => $"DELETE FROM courier.outbox_held WHERE {Is(held)}";

    private static Sql Is(HeldEvent held) => $"{Sql.Row} = {held.Row} AND event_id = {held.Id}";
}
