using GentleCourier.Engines;

namespace GentleCourier.Postgres;

/// <summary>Marks in an outbox what has become of a batch.</summary>
internal sealed class MarkStatements(PostgresServer server)
{
    /// <summary>
    /// All of it, in one transaction. Whether the term goes on is told; in one that does not, what has been published
    /// is forgotten, and nothing else is done.
    /// </summary>
    public RoundTrip Of(long term, OutboxMarks marks, Action<bool> isTerm)
    {
        // A mark that a crash of the server undoes has its events published again, as one does that was never made.
        var trip = new RoundTrip().NeedNotSurvive().Add(
            marks.IsForgettingAlone ? this.isTerm : staysTerm, row => isTerm(row.GetBoolean(0)), Parameter.Of(term));
        Forget(trip, forgetFresh, marks.Forgotten.Where(row => !row.IsHeld));
        Forget(trip, forgetHeld, marks.Forgotten.Where(row => row.IsHeld));
        if (marks.TurnsOver is { Length: > 0 } keys)
            trip.Add(wakeKeys, Parameter.Of(term), Parameter.Of(keys), server.Now);
        HoldRows(trip, holdFresh, term, marks.Held.Where(h => h.Row > 0));
        HoldRows(trip, holdAgain, term, marks.Held.Where(h => h.Row < 0));
        if (marks.Parts.Count > 0) Hold(trip, term, marks.Parts);
        if (marks.Keys.Count > 0) Hold(trip, term, marks.Keys);
        if (marks.Obstacles.Count > 0) Hold(trip, term, marks.Obstacles);
        if (marks.Removed.Count > 0)
            trip.Add(removeObstacles, Parameter.Of(term), Parameter.Of(marks.Removed.ToArray<string?>()), server.Now);
        if (marks.Freed.Count > 0) Free(trip, term, [.. marks.Freed]);
        return trip;
    }

    private static void Forget(RoundTrip trip, string statement, IEnumerable<OutboxRow> taken)
    {
        foreach (var rows in taken.GroupBy(row => row.Started, row => Math.Abs(row.Row)))
            trip.Add(statement, Parameter.Of([.. rows]), Parameter.Of(rows.Key));
    }

    private void HoldRows(RoundTrip trip, string statement, long term, IEnumerable<HeldRow> held)
    {
        var rows = held.ToArray();
        if (rows.Length == 0) return;
        trip.Add(
            statement, Parameter.Of(term), Parameter.Of(Array.ConvertAll(rows, h => Math.Abs(h.Row))),
            Parameter.Of(Array.ConvertAll(rows, h => h.Attempts)), Parameter.Of(Array.ConvertAll(rows, h => h.After)),
            Parameter.Plain(Array.ConvertAll(rows, h => (string?)h.Reason)), server.Now,
            Parameter.Of(Array.ConvertAll(rows, h => h.WaitsFor)));
    }

    private void Hold(RoundTrip trip, long term, IEnumerable<HeldPart> held)
    {
        var parts = held.ToArray();
        trip.Add(
            holdParts, Parameter.Of(term), Parameter.Of(Array.ConvertAll(parts, p => p.Row)),
            Parameter.Of(Array.ConvertAll(parts, p => p.Key)),
            Parameter.Of(Array.ConvertAll(parts, p => (string?)p.Address)),
            Parameter.Of(Array.ConvertAll(parts, p => p.Attempts)), Parameter.Of(Array.ConvertAll(parts, p => p.After)),
            Parameter.Plain(Array.ConvertAll(parts, p => (string?)p.Reason)), server.Now,
            Parameter.Of(Array.ConvertAll(parts, p => p.WaitsFor)));
    }

    private void Hold(RoundTrip trip, long term, IEnumerable<HeldKey> held)
    {
        var keys = held.ToArray();
        trip.Add(
            holdKeys, Parameter.Of(term), Parameter.Of(Array.ConvertAll(keys, k => (string?)k.Key)),
            Parameter.Of(Array.ConvertAll(keys, k => k.After)), server.Now);
    }

    private void Hold(RoundTrip trip, long term, IEnumerable<HeldObstacle> held)
    {
        var obstacles = held.ToArray();
        trip.Add(
            holdObstacles, Parameter.Of(term), Parameter.Of(Array.ConvertAll(obstacles, o => (string?)o.Name)),
            Parameter.Of(Array.ConvertAll(obstacles, o => (TimeSpan?)o.After)),
            Parameter.Of(obstacles.Where(o => o.WasTried).Select(o => (string?)o.Name).ToArray()), server.Now);
    }

    private void Free(RoundTrip trip, long term, string?[] keys) =>
        trip.Add(lockKeys, static _ => { }, Parameter.Of(keys))
            .Add(dropFreed, Parameter.Of(term), Parameter.Of(keys))
            .Add(freeKeys, Parameter.Of(term), Parameter.Of(keys), server.Now);

    private readonly string isTerm = server.Sql($"SELECT {LeadStatements.InTerm}");

    /// <summary>
    /// The same, and until the transaction has ended nobody else takes the lead: what several statements hold together
    /// is held by one term.
    /// </summary>
    private readonly string staysTerm = server.Sql("""
        WITH lead AS MATERIALIZED (
            SELECT FROM courier.relay WHERE term = $1 AND relay IS NOT NULL FOR SHARE)
        SELECT EXISTS (SELECT FROM lead)
        """);

    private readonly string forgetFresh = server.Sql(
        $"DELETE FROM courier.outbox WHERE id = ANY ($1) AND {OutboxStatements.Started} = $2");

    private readonly string forgetHeld = server.Sql(
        $"DELETE FROM courier.outbox_held WHERE id = ANY ($1) AND {OutboxStatements.Started} = $2");

    private readonly string holdFresh = server.Sql($"""
        WITH gone AS (DELETE FROM courier.outbox WHERE id = ANY ($2) AND {LeadStatements.InTerm} RETURNING *)
        INSERT INTO courier.outbox_held
            (id, event_id, type, partition_key, added, event, attempts, due, error, waits_for)
        SELECT g.id, event_id, type, partition_key, added, event, m.attempts, coalesce($6, now()) + m.after, m.error,
            m.waits_for
        FROM gone g JOIN unnest($2, $3, $4, $5, $7) AS m (id, attempts, after, error, waits_for) ON m.id = g.id
        """);

    private readonly string holdAgain = server.Sql($"""
        UPDATE courier.outbox_held h SET attempts = m.attempts, due = coalesce($6, now()) + m.after, error = m.error,
            waits_for = m.waits_for
        FROM unnest($2, $3, $4, $5, $7) AS m (id, attempts, after, error, waits_for)
        WHERE h.id = m.id AND {LeadStatements.InTerm}
        """);

    /// <summary>Rows, negated where they are of those that are held, make room for what is left of them.</summary>
    private readonly string holdParts = server.Sql($"""
        WITH parts AS (
            SELECT * FROM unnest($2, $3, $4, $5, $6, $7, $9) WITH ORDINALITY
                AS p (part_of, key, address, attempts, after, error, waits_for, place)),
        fresh AS (
            DELETE FROM courier.outbox WHERE id IN (SELECT part_of FROM parts) AND {LeadStatements.InTerm}
            RETURNING id AS part_of, event_id, type, added, event),
        held AS (
            DELETE FROM courier.outbox_held WHERE id IN (SELECT -part_of FROM parts) AND {LeadStatements.InTerm}
            RETURNING -id AS part_of, event_id, type, added, event)
        INSERT INTO courier.outbox_held
            (id, event_id, type, added, event, partition_key, address, attempts, due, error, waits_for)
        SELECT nextval(pg_get_serial_sequence('courier.outbox', 'id')), event_id, type, added, event, p.key, p.address,
            p.attempts, coalesce($8, now()) + p.after, p.error, p.waits_for
        FROM parts p JOIN (SELECT * FROM fresh UNION ALL SELECT * FROM held) g USING (part_of) ORDER BY place
        """);

    private readonly string holdKeys = server.Sql($"""
        INSERT INTO courier.held_key (partition_key, due, flows)
        SELECT k.key, coalesce($4, now()) + k.after, false FROM unnest($2, $3) AS k (key, after)
        WHERE {LeadStatements.InTerm}
        ON CONFLICT (partition_key) DO UPDATE SET due = excluded.due, flows = false
        """);

    /// <summary>
    /// What is in the way. Where a fresh event has found it out, the try that is planned stays; what had been gone is
    /// there again.
    /// </summary>
    private readonly string holdObstacles = server.Sql($"""
        INSERT INTO courier.held_obstacle AS t (waits_for, due, freed)
        SELECT n.name, coalesce($5, now()) + n.after, false FROM unnest($2, $3) AS n (name, after)
        WHERE {LeadStatements.InTerm}
        ON CONFLICT (waits_for) DO UPDATE SET freed = false,
            due = CASE WHEN t.freed OR excluded.waits_for = ANY ($4) THEN excluded.due ELSE t.due END
        """);

    private readonly string removeObstacles = server.Sql($"""
        UPDATE courier.held_obstacle SET freed = true, due = coalesce($3, now())
        WHERE waits_for = ANY ($2) AND NOT freed AND {LeadStatements.InTerm}
        """);

    /// <summary>
    /// Keys whose oldest event waited for an obstacle, and has been published though another leads by now: the next
    /// one's turn has come. Who leads frees them.
    /// </summary>
    private readonly string wakeKeys = server.Sql($"""
        UPDATE courier.held_key SET due = coalesce($3, now())
        WHERE partition_key = ANY ($2) AND due IS NULL AND NOT {LeadStatements.InTerm}
        """);

    /// <summary>
    /// To be asked before <see cref="dropFreed"/> and <see cref="freeKeys"/>, in statements of their own: whoever holds
    /// something more by such a key has it locked, and is seen.
    /// </summary>
    private readonly string lockKeys = server.Sql("""
        SELECT FROM courier.held_key WHERE partition_key = ANY ($1) ORDER BY partition_key FOR UPDATE
        """);

    /// <summary>Of keys whose oldest event has gone those that nothing waits with.</summary>
    private readonly string dropFreed = server.Sql($"""
        DELETE FROM courier.held_key k WHERE partition_key = ANY ($2) AND {LeadStatements.InTerm} AND (
            SELECT true FROM courier.outbox_held h WHERE h.partition_key = k.partition_key AND h.due IS NOT NULL
            LIMIT 1) IS NULL
        """);

    private readonly string freeKeys = server.Sql($"""
        UPDATE courier.held_key SET due = coalesce($3, now()), flows = true
        WHERE partition_key = ANY ($2) AND {LeadStatements.InTerm}
        """);
}
