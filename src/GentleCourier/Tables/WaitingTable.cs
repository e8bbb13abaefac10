namespace GentleCourier.Tables;

/// <summary>Events of an outbox that have not been tried yet, as people see them.</summary>
internal sealed class WaitingTable(ITables tables)
{
    /// <summary>Those that wait for the relay, the oldest first.</summary>
    /// <param name="limit">How many at the most; fewer, where they have more than 16 MiB.</param>
    /// <param name="after">Only those behind this row.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    public async Task<IReadOnlyList<WaitingEvent>> ReadAsync(
        int limit, long after, CancellationToken cancellationToken = default)
    {
        var events = new List<WaitingEvent>();
        await tables.RunAsync(
            new Statements("read the outbox of").ReadPage(
                $"""
                SELECT {Sql.Row} AS place, added, event FROM courier.outbox
                WHERE {Sql.Row} > {after} ORDER BY {Sql.Row} LIMIT {limit}
                """,
                "place", row => events.Add(new WaitingEvent(row.Number(0), row.Moment(1), row.Bytes(2)))),
            null, cancellationToken).ConfigureAwait(false);
        return events;
    }
}

/// <summary>An event that waits for the relay.</summary>
/// <param name="Row">Its number; one that is added later has a greater one.</param>
/// <param name="Added">When it was added.</param>
/// <param name="Json">The event, UTF-8.</param>
internal sealed record WaitingEvent(long Row, DateTimeOffset Added, ReadOnlyMemory<byte> Json);
