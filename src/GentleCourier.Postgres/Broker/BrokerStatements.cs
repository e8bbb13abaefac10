using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>
/// What a broker says to its database. <c>$1</c> is the time, or nothing for the server's own, where a statement takes
/// one.
/// </summary>
internal sealed class BrokerStatements(PostgresServer server)
{
    private const string Held = "queue = $1 AND id = ANY ($2) AND number = $3";
    private const string NotInHand = "until = NULL, number = NULL, holder = NULL";

    // Each connection counts in a row of its own, so that none waits for another. In the order of queues, two that
    // happen to share a slot wait in one direction only.
    private const string Slot = "pg_backend_pid() % 64";
    private const string ToTally = "INSERT INTO courier.tally AS t (queue, slot, copies, dead)";
    private const string OrAdd =
        "ON CONFLICT (queue, slot) DO UPDATE SET copies = t.copies + excluded.copies, dead = t.dead + excluded.dead";
    private const string CountAccepted =
        $"{ToTally} SELECT $1, {Slot}, -count(*), 0 FROM gone HAVING count(*) > 0 {OrAdd}";
    private const string CountSetAside =
        $"{ToTally} SELECT $1, {Slot}, -count(*), count(*) FROM gone HAVING count(*) > 0 {OrAdd}";

    public readonly string Routes = server.Sql(
        "SELECT (SELECT version FROM courier.topology), type, queue FROM courier.topology LEFT JOIN courier.route ON "
        + "true ORDER BY type, queue");

    public readonly string AddCopies = server.Sql("""
        INSERT INTO courier.copy (queue, arrived, event)
        SELECT r.queue, coalesce($1, now()), e.event FROM unnest($2, $3) WITH ORDINALITY AS e (type, event, place)
        CROSS JOIN LATERAL (SELECT queue FROM courier.route WHERE type = e.type OFFSET 0) r ORDER BY place
        """);

    public readonly string CountAdded = CountCopies(server.SchemaName, "SELECT * FROM unnest($1, $2)");

    /// <summary>Counts copies, of <c>(queue, added)</c>, as part of another statement.</summary>
    public static string CountCopies(string schema, string added) =>
        Schema.In(schema,
            $"{ToTally} SELECT queue, {Slot}, added, 0 FROM ({added}) AS a (queue, added) ORDER BY queue {OrAdd}");

    /// <summary>
    /// Fails, and undoes the round trip, where the topology is no longer the one that the events were dealt by.
    /// </summary>
    public readonly string CheckTopology = server.Sql("SELECT 1 / (version = $1)::int FROM courier.topology");

    /// <summary>How <see cref="CheckTopology"/> fails.</summary>
    public const string TopologyChanged = PostgresErrorCodes.DivisionByZero;

    // The waiting ones are looked for from where the last hand-over ended: what was settled before that lies there
    // until it is cleared away, which may take as long as the longest transaction of the whole database. Now and then,
    // and when there seem to be too few, the caller begins at 0, for what was given back, has lost its lease or was
    // committed late. Rows are found again by their place, locked as they are.
    public readonly string HandOver = server.Sql("""
        WITH taken AS (
            UPDATE courier.copy SET
                attempts = attempts + 1,
                abandoned = abandoned + (until IS NOT NULL)::int,
                first_attempt = coalesce(first_attempt, $1, now()),
                error = CASE WHEN until IS NULL THEN error ELSE 'the lease of ' || holder || ' ran out' END,
                until = coalesce($1, now()) + $5, number = $6, holder = $7
            WHERE ctid = ANY (ARRAY (
                SELECT ctid FROM courier.copy WHERE queue = $2 AND id > $3
                    AND (until IS NULL OR until <= coalesce($1, now()))
                ORDER BY id LIMIT $4 FOR UPDATE SKIP LOCKED))
            RETURNING id, attempts, abandoned, event),
        noted AS (
            INSERT INTO courier.link (id, queue, worker, in_hand, until)
            SELECT $8, $2, $7, $9 + count(*), coalesce($1, now()) + $5 FROM taken HAVING count(*) > 0 OR $10
            ON CONFLICT (id) DO UPDATE SET in_hand = excluded.in_hand, until = greatest(link.until, excluded.until))
        SELECT id, attempts, abandoned, event FROM taken
        """);

    public readonly string NoteInHand = server.Sql("UPDATE courier.link SET in_hand = $2 WHERE id = $1");

    public readonly string Promote = server.Sql("""
        WITH due AS (
            DELETE FROM courier.later WHERE ctid = ANY (ARRAY (
                SELECT ctid FROM courier.later WHERE queue = $2 AND due <= coalesce($1, now()) ORDER BY due, id
                    LIMIT 1000 FOR UPDATE SKIP LOCKED))
            RETURNING *)
        INSERT INTO courier.copy (queue, arrived, attempts, first_attempt, error, event)
        SELECT queue, arrived, attempts, first_attempt, error, event FROM due ORDER BY due, id
        """);

    // Rows are named by their keys, one or a list of them. In a join the planner could come to think, while a queue is
    // empty, that reading all of it is as good a way to find them; and it would still do so with a million in it.
    public readonly string Accept = server.Sql($"""
        WITH gone AS (DELETE FROM courier.copy WHERE {Held} RETURNING id),
        counted AS ({CountAccepted})
        SELECT id, $3 FROM gone
        """);

    public readonly string Release = server.Sql($"""
        UPDATE courier.copy
            SET attempts = attempts - 1, first_attempt = CASE WHEN attempts > 1 THEN first_attempt END, {NotInHand}
        WHERE {Held} RETURNING id, $3
        """);

    public readonly string RetryNow = server.Sql(
        $"UPDATE courier.copy SET abandoned = 0, error = $4, {NotInHand} WHERE {Held} RETURNING id, $3");

    public readonly string RetryLater = server.Sql($"""
        WITH gone AS (DELETE FROM courier.copy WHERE {Held} RETURNING *),
        kept AS (
            INSERT INTO courier.later (queue, due, id, arrived, attempts, first_attempt, error, event)
            SELECT queue, coalesce($6, now()) + $5, id, arrived, attempts, first_attempt, $4, event FROM gone)
        SELECT id, $3 FROM gone
        """);

    public readonly string SetAside = server.Sql($"""
        WITH gone AS (DELETE FROM courier.copy WHERE {Held} RETURNING *),
        kept AS (
            INSERT INTO courier.dead_letter (queue, reason, exception, message, stack, attempts, worker, arrived,
                first_attempt, set_aside, event)
            SELECT queue, $4, $5, $6, $7, attempts, holder, arrived, first_attempt, coalesce($8, now()), event
                FROM gone),
        counted AS ({CountSetAside})
        SELECT id, $3 FROM gone
        """);

    public readonly string Renew = server.Sql(
        $"UPDATE courier.copy SET until = coalesce($4, now()) + $5 WHERE {Held} RETURNING id");

    public readonly string RenewLink = server.Sql(
        "UPDATE courier.link SET until = coalesce($1, now()) + $2 WHERE id = $3");

    /// <summary>
    /// For each queue whether something can be handed over, and how long it is until something falls due or a lease
    /// ends.
    /// </summary>
    public readonly string Look = server.Sql("""
        SELECT q.id,
               EXISTS (SELECT FROM courier.copy WHERE queue = q.id AND (until IS NULL OR until <= coalesce($1, now())))
               OR EXISTS (SELECT FROM courier.later WHERE queue = q.id AND due <= coalesce($1, now())),
               least((SELECT min(due) FROM courier.later WHERE queue = q.id AND due > coalesce($1, now())),
                     (SELECT min(until) FROM courier.link WHERE queue = q.id AND in_hand > 0
                         AND until > coalesce($1, now()))) - coalesce($1, now())
        FROM unnest($2) AS q (id)
        """);

    public readonly string Announce = server.Sql(
        $"SELECT pg_notify('{server.Channel("queue")}', id::text) FROM unnest($1) AS q (id)");

    public readonly string ForgetLinks = server.Sql(
        "DELETE FROM courier.link WHERE id = $1 AND in_hand = 0 OR until < now() - interval '1 day'");

    public readonly string Queues = server.Sql("SELECT name FROM courier.queue ORDER BY name");

    public readonly string NamedRoutes = server.Sql(
        "SELECT r.type, q.name FROM courier.route r JOIN courier.queue q ON q.id = r.queue ORDER BY 1, 2");

    public readonly string AddQueues = server.Sql(
        "INSERT INTO courier.queue (name) SELECT name FROM unnest($1) AS q (name) ORDER BY name ON CONFLICT DO "
        + "NOTHING");

    public readonly string AddRoutes = server.Sql("""
        INSERT INTO courier.route (type, queue) SELECT r.type, q.id FROM unnest($1, $2) AS r (type, name)
            JOIN courier.queue q ON q.name = r.name
        ORDER BY 1, 2 ON CONFLICT DO NOTHING
        """);

    public readonly string ChangeTopology = server.Sql("UPDATE courier.topology SET version = version + 1");

    // Copies are counted as they come and go. Those in hand are counted by link, and scheduled ones, as many as
    // receivers have failed at, are looked at one by one; so is the first in line, which is the oldest.
    public readonly string Figures = server.Sql("""
        SELECT q.name,
               (SELECT coalesce(sum(copies), 0)::bigint FROM courier.tally WHERE queue = q.id),
               (SELECT coalesce(sum(in_hand), 0)::bigint FROM courier.link WHERE queue = q.id
                   AND until > coalesce($1, now())),
               (SELECT count(*) FROM courier.later WHERE queue = q.id AND due > coalesce($1, now())),
               (SELECT coalesce(sum(dead), 0)::bigint FROM courier.tally WHERE queue = q.id),
               coalesce($1, now()) - least((SELECT arrived FROM courier.copy WHERE queue = q.id ORDER BY id LIMIT 1),
                   (SELECT min(arrived) FROM courier.later WHERE queue = q.id))
        FROM courier.queue q ORDER BY q.name
        """);

    public readonly string Peek = server.Sql("""
        (SELECT event, attempts, CASE WHEN until > coalesce($1, now()) THEN 2 ELSE 0 END,
            CASE WHEN until > coalesce($1, now()) THEN until END, arrived, error
        FROM courier.copy WHERE queue = $2 ORDER BY id LIMIT $3)
        UNION ALL
        (SELECT event, attempts, CASE WHEN due > coalesce($1, now()) THEN 1 ELSE 0 END,
            CASE WHEN due > coalesce($1, now()) THEN due END, arrived, error
        FROM courier.later WHERE queue = $2 ORDER BY due, id LIMIT $3)
        LIMIT $3
        """);

    public readonly string QueueId = server.Sql("SELECT id FROM courier.queue WHERE name = $1");

    public readonly string DeadLetters = server.Sql(
        $"{LettersOf} WHERE $1 IS NULL OR d.queue = $1 ORDER BY d.id DESC LIMIT $2");

    public readonly string DeadLetter = server.Sql($"{LettersOf} WHERE d.id = $1");

    private const string LettersOf = """
        SELECT d.id, q.name, d.reason, d.exception, d.message, d.stack, d.attempts, d.worker, d.arrived,
            d.first_attempt, d.set_aside, d.event
        FROM courier.dead_letter d JOIN courier.queue q ON q.id = d.queue
        """;
}
