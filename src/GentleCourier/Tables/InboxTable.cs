using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Tables;

/// <summary>What a store tells people of the events that were handled.</summary>
internal sealed class InboxTable(ITables tables)
{
    /// <summary>Events that have been handled, with the number of copies that came.</summary>
    public async Task<IReadOnlyList<InboxEntry>> ReadAsync(
        string queue, CancellationToken cancellationToken = default)
    {
        var entries = new List<InboxEntry>();
        await tables.RunAsync(
            new Statements("read").Read(
                $"""
                SELECT source, {Sql.HandledId}, coalesce(copies, 1), {Sql.HandledAt}
                FROM courier.inbox JOIN courier.inbox_source USING (origin) WHERE queue = {queue} ORDER BY handled
                """,
                row => entries.Add(new(row.Text(0), row.Text(1), (int)row.Number(2), row.Moment(3)))),
            null, cancellationToken).ConfigureAwait(false);
        return entries;
    }

    /// <summary>
    /// The copies of the last day that came with other data than the event of their source and id that was handled;
    /// null: there were none.
    /// </summary>
    public async Task<OtherDataFigures?> ReadOtherDataAsync(CancellationToken cancellationToken = default)
    {
        var found = (OtherDataFigures?)null;
        Sql others = $"other IS NOT NULL AND other_at > {Sql.Now} - {OtherDataFigures.Memory}";
        await tables.RunAsync(
            new Statements("read").Read(
                $"""
                SELECT (SELECT count(*) FROM (
                        SELECT 1 FROM courier.inbox WHERE {others} LIMIT {OtherDataFigures.MostEvents}) o),
                    coalesce(queue, ''), coalesce(source, ''), {Sql.HandledId}, hash, other, {Sql.Now} - other_at
                FROM courier.inbox LEFT JOIN courier.inbox_source USING (origin) WHERE {others}
                ORDER BY other_at DESC LIMIT 1
                """,
                row => found = new(
                    (int)row.Number(0), row.Text(1), row.Text(2), row.Text(3),
                    OtherDataFigures.HashOf((int)row.Number(4)), OtherDataFigures.HashOf((int)row.Number(5)),
                    row.Age(6))),
            null, cancellationToken).ConfigureAwait(false);
        return found;
    }

    /// <summary>
    /// What was handled before this time may have been forgotten, <see cref="RetentionOptions.Inbox"/>; null: nothing
    /// has been yet.
    /// </summary>
    public async Task<DateTimeOffset?> ReadForgottenBeforeAsync(CancellationToken cancellationToken = default)
    {
        var before = (DateTimeOffset?)null;
        await tables.RunAsync(
            new Statements("read").Read(
                $"SELECT max(before) FROM courier.store_chore", row => before = row.MomentOrNull(0)),
            null, cancellationToken).ConfigureAwait(false);
        return before;
    }
}

/// <summary>An event that has been handled.</summary>
/// <param name="Source">The event's source.</param>
/// <param name="Id">The event's id.</param>
/// <param name="Copies">How many copies came, 1 or more; all but the first had no effect.</param>
/// <param name="Handled">When the first was handled.</param>
internal sealed record InboxEntry(string Source, string Id, int Copies, DateTimeOffset Handled);
