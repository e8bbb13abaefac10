using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.Tables;

namespace GentleCourier.Scheduling;

/// <summary>
/// Keeps the schedules of recurring events. What they mean, and what becomes of them, is decided elsewhere: a row is
/// read, and written again where nobody has changed it meanwhile. Thread-safe.
/// </summary>
internal sealed class ScheduleTable(ITables tables)
{
    private static readonly TimeSpan ForgottenAfter = TimeSpan.FromDays(30);

    /// <summary>Reads schedules, by name.</summary>
    /// <param name="dueOnly">Only those that are due.</param>
    /// <param name="transaction">The caller's; null: none.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    public async Task<ScheduleRows> ReadAsync(
        bool dueOnly, DbTransaction? transaction = null, CancellationToken cancellationToken = default)
    {
        var (rows, now) = (new List<ScheduleRow>(), (DateTimeOffset?)null);
        Sql due = $"{(dueOnly ? Due : All)}";
        // The time last: what was due is so by then.
        await tables.RunAsync(
            Read(new("read the schedules of"), due, rows).Read($"SELECT {Sql.Clock}", row => now = row.TimeOrNull(0)),
            transaction, cancellationToken).ConfigureAwait(false);
        return new ScheduleRows(rows, now!.Value);
    }

    /// <summary>Which schedules are to be read: all of them.</summary>
    public static Sql All => $"{true}";

    private static Sql Due => $"due <= {Sql.Clock} AND {Sql.ClockHolds}";

    /// <summary>Adds a statement that reads schedules into a list.</summary>
    public static Statements Read(Statements statements, Sql which, List<ScheduleRow> rows) => statements.Read(
        $"""
        SELECT name, version, type, template, rule, declared_rule, declaration, next, due, fired, paused, changed
        FROM courier.schedule WHERE {which} ORDER BY name
        """,
        row => rows.Add(new ScheduleRow(row.Text(0), row.Number(1))
        {
            Type = row.Text(2),
            Template = row.Bytes(3),
            Rule = row.Text(4),
            DeclaredRule = row.Text(5),
            Declaration = row.Text(6),
            Next = row.TimeOrNull(7),
            Due = row.TimeOrNull(8),
            Fired = row.TimeOrNull(9),
            Paused = row.TimeOrNull(10),
            Changed = row.TimeOrNull(11),
        }));

    /// <summary>Adds a statement that writes a schedule, where it still has the version that it was read in.</summary>
    public static Statements Write(
        Statements statements, ScheduleRow row, Action<long>? changed = null, params IReadOnlyList<Sql> then) =>
        statements.Write(row.Version == 0 ? Insert(row) : Update(row), changed, then);

    private static Sql Insert(ScheduleRow row) => $"""
        INSERT INTO courier.schedule
            (name, version, type, template, rule, declared_rule, declaration, next, due, fired, paused, changed)
        VALUES ({row.Name}, 1, {row.Type}, {row.Template}, {row.Rule}, {row.DeclaredRule}, {row.Declaration},
            {row.Next}, {row.Due}, {row.Fired}, {row.Paused}, {row.Changed}) ON CONFLICT DO NOTHING
        """;

    private static Sql Update(ScheduleRow row) => $"""
        UPDATE courier.schedule SET version = version + 1, type = {row.Type}, template = {row.Template},
            rule = {row.Rule}, declared_rule = {row.DeclaredRule}, declaration = {row.Declaration}, next = {row.Next},
            due = {row.Due}, fired = {row.Fired}, paused = {row.Paused}, changed = {row.Changed}
        WHERE name = {row.Name} AND version = {row.Version}
        """;

    /// <summary>
    /// Writes a schedule, and the events of its firing into the outbox, in one transaction, where it still has the
    /// version that it was read in; it has the next one then.
    /// </summary>
    /// <param name="row">The schedule; version 0 where it is new.</param>
    /// <param name="events">Events that leave with it; may be none.</param>
    /// <param name="transaction">The caller's; null: one of its own.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>False: somebody else was first, and nothing was written.</returns>
    public async Task<bool> SaveAsync(ScheduleRow row, IReadOnlyList<EncodedEvent> events,
        DbTransaction? transaction = null, CancellationToken cancellationToken = default)
    {
        var isSaved = false;
        var statements = new Statements("write a schedule of") { Due = row.Due, AddsEvents = events.Count > 0 };
        await tables.RunAsync(
            Write(statements, row, count => isSaved = count > 0, [.. events.Select(Add)]), transaction,
            cancellationToken).ConfigureAwait(false);
        return isSaved;
    }

    private static Sql Add(EncodedEvent @event) => $"""
        INSERT INTO courier.outbox (event_id, type, partition_key, added, event)
        SELECT {@event.Id}, {@event.Type}, {@event.PartitionKey}, {Sql.Now}, {@event.Json} WHERE {Sql.Changed}
        """;

    /// <summary>Removes a schedule, where it still has this version.</summary>
    public async Task<bool> RemoveAsync(
        ScheduleRow row, DbTransaction? transaction = null, CancellationToken cancellationToken = default)
    {
        var isGone = false;
        await tables.RunAsync(
            new Statements("remove a schedule of").Write(
                $"DELETE FROM courier.schedule WHERE name = {row.Name} AND version = {row.Version}",
                count => isGone = count > 0),
            transaction, cancellationToken).ConfigureAwait(false);
        return isGone;
    }

    /// <summary>Which declarations have been seen, of all schedules.</summary>
    public async Task<IReadOnlyList<SeenDeclaration>> ReadDeclarationsAsync(
        CancellationToken cancellationToken = default)
    {
        var seen = new List<SeenDeclaration>();
        await tables.RunAsync(
            new Statements("read the declarations of schedules in").Read(
                $"SELECT name, declaration, {Sql.Now} - seen FROM courier.declaration ORDER BY name, seen",
                row => seen.Add(new(row.Text(0), row.Text(1), row.Age(2)))),
            null, cancellationToken).ConfigureAwait(false);
        return seen;
    }

    /// <summary>
    /// A process that declares these is there. Declarations that nobody has made for 30 days are forgotten.
    /// </summary>
    /// <param name="declarations">The schedules' names, and what identifies what is declared of them.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    public Task MarkAsync(
        IReadOnlyList<(string Name, string Declaration)> declarations, CancellationToken cancellationToken = default)
    {
        var statements = new Statements("declare schedules in") { NeedNotSurvive = true };
        statements.Write($"DELETE FROM courier.declaration WHERE seen < {Sql.Now} - {ForgottenAfter}");
        // In one order, so that two processes wait for each other in one direction only.
        foreach (var (name, declaration) in declarations.OrderBy(d => d.Name, StringComparer.Ordinal))
        {
            statements.Write($"""
                INSERT INTO courier.declaration (name, declaration, seen) VALUES ({name}, {declaration}, {Sql.Now})
                ON CONFLICT (name, declaration) DO UPDATE SET seen = excluded.seen
                """);
        }
        return tables.RunAsync(statements, null, cancellationToken);
    }
}
