using GentleCourier.ByHand;
using GentleCourier.Engines;

namespace GentleCourier.Tables;

/// <summary>
/// What has been ordered by hand at a broker in a database. That a queue is paused is written at the queue, where the
/// statement sees it that hands over; each pause has a row besides, for as long as it may matter how long it was.
/// </summary>
/// <param name="tables">Where it is.</param>
/// <param name="announced">Raised when something is announced.</param>
/// <param name="announce">Tells all who wait that something has changed; it does not fail.</param>
/// <param name="listen">
/// Begins to listen to others, with some expense where it is said so, until it is disposed.
/// </param>
/// <param name="clock">Measures how long somebody waits.</param>
/// <param name="missing">What is said where there is no such queue.</param>
internal sealed class InstructionTable(
    ITables tables, Signal announced, Func<Task> announce, Func<bool, IDisposable?> listen, TimeProvider clock,
    Func<string, CancellationToken, Task<CourierException>> missing) : IInstructions
{
    // No event is tried for longer: what has ended before that is of no account.
    private static readonly TimeSpan Keep = TimeSpan.FromDays(400), LongGone = TimeSpan.FromDays(1);

    public async Task<Standing?> ReadAsync(long known, CancellationToken cancellationToken)
    {
        var number = -1L;
        if (known >= 0)
        {
            await tables.RunAsync(Number(new Statements("read"), found => number = found), null, cancellationToken)
                .ConfigureAwait(false);
            if (number == known) return null;
        }
        var (pauses, instructions) =
            (new Dictionary<string, Pause>(StringComparer.Ordinal), new List<Instruction>());
        var statements = Number(new Statements("read"), found => number = found)
            .Read(
                $"""
                SELECT q.name, p.who, p.why, {Sql.Now} - p.began, q.paused_until - {Sql.Now}
                FROM courier.queue q JOIN courier.pause p ON p.queue = q.id AND p.number = q.pause
                WHERE q.is_paused AND (q.paused_until IS NULL OR q.paused_until > {Sql.Now})
                """,
                row => pauses[row.Text(0)] =
                    new Pause(row.Text(1), row.TextOrNull(2), row.Age(3), row.SpanOrNull(4)))
            .Read(
                $"""
                SELECT queue, worker, settings, until - {Sql.Now}, who, why, {Sql.Now} - began
                FROM courier.instruction WHERE until IS NULL OR until > {Sql.Now} ORDER BY queue, worker
                """,
                row =>
                {
                    var steering = row.TextOrNull(2) is { } written ? SteeringJson.Read(written) ?? new() : null;
                    instructions.Add(new Instruction(
                        Said(row.Text(0)), Said(row.Text(1)), steering, row.Text(4), row.TextOrNull(5), row.Age(6),
                        row.SpanOrNull(3)));
                });
        await tables.RunAsync(statements, null, cancellationToken).ConfigureAwait(false);
        return new Standing(number, pauses, instructions);
    }

    public Task Announced => announced.Next;

    public async Task WaitAsync(Task news, TimeSpan limit, bool isKeen, CancellationToken cancellationToken)
    {
        using var listening = listen(isKeen);
        using var over = CancellationTokenSource.CreateLinkedTokenSource(cancellationToken);
        await Task.WhenAny(news, Task.Delay(limit, clock, over.Token)).ConfigureAwait(false);
        await over.CancelAsync().ConfigureAwait(false);
        cancellationToken.ThrowIfCancellationRequested();
    }

    public Task<long> PauseAsync(
        string queue, TimeSpan? duration, HandNote note, CancellationToken cancellationToken) => ChangeAsync(
        queue, "pause a queue of",
        statements => End(
            statements.Write($"""
                UPDATE courier.queue SET is_paused = {true}, paused_until = {Sql.Now} + {duration}, pause = pause + 1
                WHERE name = {queue}
                """),
            queue)
            .Write($"""
                INSERT INTO courier.pause (queue, number, began, ended, who, why)
                SELECT id, pause, {Sql.Now}, {Sql.Now} + {duration}, {note.By}, {note.Why}
                FROM courier.queue WHERE name = {queue}
                """)
            .Write($"DELETE FROM courier.pause WHERE ended < {Sql.Now} - {Keep}"),
        cancellationToken);

    public Task<long> ResumeAsync(string queue, CancellationToken cancellationToken) => ChangeAsync(
        queue, "resume a queue of",
        statements => End(
            statements.Write(
                $"UPDATE courier.queue SET is_paused = {false}, paused_until = NULL WHERE name = {queue}"),
            queue),
        cancellationToken);

    public Task<long> SteerAsync(string queue, string? worker, Steering steering, TimeSpan duration, HandNote note,
        CancellationToken cancellationToken) => ChangeAsync(
        queue, "steer workers of",
        statements => Put(statements, queue, worker ?? "", SteeringJson.Write(steering), duration, note),
        cancellationToken);

    public Task<long> EndSteeringAsync(string queue, string? worker, CancellationToken cancellationToken) =>
        ChangeAsync(
            queue, "steer workers of", statements => Remove(statements, queue, worker ?? ""), cancellationToken);

    public Task<long> DrainAsync(
        IReadOnlyList<string> workers, HandNote note, CancellationToken cancellationToken) => ChangeAsync(
        null, "drain workers of",
        statements => workers.Aggregate(statements, (all, worker) => Put(all, "", worker, null, null, note)),
        cancellationToken);

    public Task<long> EndDrainingAsync(IReadOnlyList<string> workers, CancellationToken cancellationToken) =>
        ChangeAsync(
            null, "drain workers of",
            statements => workers.Aggregate(statements, (all, worker) => Remove(all, "", worker)), cancellationToken);

    /// <summary>The pause that stands, if one does, ends now.</summary>
    private static Statements End(Statements statements, string queue) => statements.Write($"""
        UPDATE courier.pause SET ended = {Sql.Now}
        WHERE queue = (SELECT id FROM courier.queue WHERE name = {queue}) AND (ended IS NULL OR ended > {Sql.Now})
        """);

    /// <summary>
    /// What was said before of the same is replaced; and what was said of workers that are long gone is forgotten.
    /// </summary>
    private static Statements Put(
        Statements statements, string queue, string worker, string? settings, TimeSpan? duration, HandNote note) =>
        statements
            .Write($"""
                DELETE FROM courier.instruction WHERE until < {Sql.Now}
                    OR worker <> '' AND began < {Sql.Now} - {LongGone} AND NOT EXISTS (
                        SELECT 1 FROM courier.worker w WHERE w.id = courier.instruction.worker)
                """)
            .Write($"""
                INSERT INTO courier.instruction (queue, worker, settings, began, until, who, why)
                SELECT {queue}, {worker}, {settings}, {Sql.Now}, {Sql.Now} + {duration}, {note.By}, {note.Why}
                WHERE {queue.Length == 0} OR EXISTS (SELECT 1 FROM courier.queue WHERE name = {queue})
                ON CONFLICT (queue, worker) DO UPDATE SET settings = excluded.settings, began = excluded.began,
                    until = excluded.until, who = excluded.who, why = excluded.why
                """);

    private static Statements Remove(Statements statements, string queue, string worker) =>
        statements.Write($"DELETE FROM courier.instruction WHERE queue = {queue} AND worker = {worker}");

    private async Task<long> ChangeAsync(
        string? queue, string tried, Func<Statements, Statements> change, CancellationToken cancellationToken)
    {
        var (isThere, number) = (queue is null, -1L);
        var statements = new Statements(tried);
        if (queue is not null)
            statements.Read($"SELECT 1 FROM courier.queue WHERE name = {queue}", _ => isThere = true);
        // Queues before the topology, as whoever prepares them.
        change(statements).WriteRows(
            $"UPDATE courier.topology SET by_hand = by_hand + 1 RETURNING by_hand", row => number = row.Number(0));
        await tables.RunAsync(statements, null, cancellationToken).ConfigureAwait(false);
        if (!isThere) throw await missing(queue!, cancellationToken).ConfigureAwait(false);
        await announce().ConfigureAwait(false);
        return number;
    }

    private static string? Said(string text) => text.Length == 0 ? null : text;

    private static Statements Number(Statements statements, Action<long> found) =>
        statements.Read($"SELECT by_hand FROM courier.topology", row => found(row.Number(0)));
}
