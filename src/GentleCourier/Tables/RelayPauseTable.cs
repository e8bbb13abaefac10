using GentleCourier.ByHand;
using GentleCourier.Engines;

namespace GentleCourier.Tables;

/// <summary>
/// Whether somebody has paused a store's relay by hand. It looks at that with each reading of the outbox; events for
/// later, and those of schedules, go on into it.
/// </summary>
internal sealed class RelayPauseTable(ITables tables)
{
    /// <summary>Null where it is not paused.</summary>
    public async Task<Pause?> ReadAsync(CancellationToken cancellationToken = default)
    {
        Pause? pause = null;
        await tables.RunAsync(
            new Statements("read").Read(
                $"""
                SELECT who, why, {Sql.Now} - began, until - {Sql.Now} FROM courier.relay_pause
                WHERE until IS NULL OR until > {Sql.Now}
                """,
                row => pause = new Pause(row.Text(0), row.TextOrNull(1), row.Age(2), row.SpanOrNull(3))),
            null, cancellationToken).ConfigureAwait(false);
        return pause;
    }

    /// <param name="duration">For how long; null: until it is resumed.</param>
    /// <param name="note">By whom, and why.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    public Task PauseAsync(
        TimeSpan? duration, HandNote note, CancellationToken cancellationToken = default) => tables.RunAsync(
        new Statements("pause the relay of").Write($"""
            INSERT INTO courier.relay_pause (id, began, until, who, why)
            VALUES (1, {Sql.Now}, {Sql.Now} + {duration}, {note.By}, {note.Why})
            ON CONFLICT (id) DO UPDATE SET began = excluded.began, until = excluded.until, who = excluded.who,
                why = excluded.why
            """),
        null, cancellationToken);

    public Task ResumeAsync(CancellationToken cancellationToken = default) => tables.RunAsync(
        new Statements("resume the relay of") { AddsEvents = true }.Write($"DELETE FROM courier.relay_pause"), null,
        cancellationToken);
}
