using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>
/// What a broker says to its database. <c>$1</c> is the time, or nothing for the server's own, where a statement takes
/// one.
/// </summary>
internal sealed class BrokerStatements(PostgresServer server)
{
    private const string InHand = "queue = $1 AND id = ANY ($2) AND number = $3";
    // No lease is longer than an hour: one that seems to be was taken before the server's clock was set back.
    private const string Longest = "interval '61 minutes'";
    public const string IsFree =
        $"(until IS NULL OR until <= coalesce($1, now()) OR until > coalesce($1, now()) + {Longest})";
    /// <summary>Whether anything of the queue <c>$2</c> may be handed over: not while it is paused by hand.</summary>
    public const string IsOpen =
        "(SELECT NOT is_paused OR paused_until <= coalesce($1, now()) FROM courier.queue WHERE id = $2)";
    private const string NotInHand = "until = NULL, number = NULL, holder = NULL";

    // Each connection counts in a row of its own, so that none waits for another. In the order of queues, two that
    // happen to share a slot wait in one direction only.
    public const string Slot = "pg_backend_pid() % 64";
    public const string ToTally =
        "INSERT INTO courier.tally AS t (queue, slot, copies, later, dead, came, accepted, failed, set_aside)";
    public const string OrAdd = """
        ON CONFLICT (queue, slot) DO UPDATE SET copies = t.copies + excluded.copies, later = t.later + excluded.later,
            dead = t.dead + excluded.dead, came = t.came + excluded.came, accepted = t.accepted + excluded.accepted,
            failed = t.failed + excluded.failed, set_aside = t.set_aside + excluded.set_aside
        """;
    private const string CountAccepted = $"{ToTally} SELECT $1, {Slot}, -count(*), 0, 0, 0, count(*), 0, 0 FROM gone "
        + $"HAVING count(*) > 0 {OrAdd}";
    private const string CountRetry =
        $"{ToTally} SELECT $1, {Slot}, 0, 0, 0, 0, 0, count(*), 0 FROM again HAVING count(*) > 0 {OrAdd}";
    private const string CountDelay = $"{ToTally} SELECT $1, {Slot}, 0, count(*), 0, 0, 0, "
        + $"count(*) FILTER (WHERE ($6)[array_position($2, id)] = 0), 0 FROM gone HAVING count(*) > 0 {OrAdd}";
    private const string CountPromoted =
        $"{ToTally} SELECT $2, {Slot}, 0, -count(*), 0, 0, 0, 0, 0 FROM due HAVING count(*) > 0 {OrAdd}";
    private const string CountSetAside = $"{ToTally} SELECT $1, {Slot}, -count(*), 0, count(letter), 0, "
        + $"count(*) - count(letter), 0, count(letter) FROM gone LEFT JOIN kept ON true HAVING count(*) > 0 {OrAdd}";

    public readonly string Routes = server.Sql(
        "SELECT version, type, queue, in_key_order, generation FROM courier.topology "
        + "LEFT JOIN courier.route ON true ORDER BY type, queue");

    /// <summary>
    /// Where each event has one queue, as most have: routes are known, and that they are still those is asked at the
    /// end. Looked up for each event, they were a quarter of what this takes.
    /// </summary>
    public readonly string AddCopiesTo = server.Sql("""
        INSERT INTO courier.copy (queue, arrived, event, waited)
        SELECT e.queue, coalesce($1, now()), e.event, e.waited FROM unnest($2, $3, $4) AS e (queue, event, waited)
        """);

    public readonly string AddCopies = server.Sql("""
        INSERT INTO courier.copy (queue, arrived, event, waited)
        SELECT r.queue, coalesce($1, now()), e.event, e.waited
        FROM unnest($2, $3, $4) WITH ORDINALITY AS e (type, event, waited, place)
        CROSS JOIN LATERAL (SELECT queue FROM courier.route WHERE type = e.type OFFSET 0) r ORDER BY place
        """);

    // Where a queue is in key order; an event without a key gets one of its own when it is handed over.
    public readonly string AddCopiesWithKeys = server.Sql("""
        INSERT INTO courier.copy (queue, arrived, event, waited, key)
        SELECT r.queue, coalesce($1, now()), e.event, e.waited,
            CASE WHEN r.in_key_order THEN e.key END
        FROM unnest($2, $3, $4, $5) WITH ORDINALITY AS e (type, event, waited, key, place)
        CROSS JOIN LATERAL (SELECT queue, in_key_order FROM courier.route WHERE type = e.type OFFSET 0) r ORDER BY place
        """);

    public readonly string CountAdded = CountCopies(server.SchemaName, "SELECT * FROM unnest($1, $2)");

    /// <summary>Counts copies, of <c>(queue, added)</c>, as part of another statement.</summary>
    public static string CountCopies(string schema, string added) =>
        Schema.In(schema,
            $"{ToTally} SELECT queue, {Slot}, added, 0, 0, added, 0, 0, 0 FROM ({added}) AS a (queue, added) "
            + $"ORDER BY queue {OrAdd}");

    /// <summary>Counts dead letters that go, of <c>(queue, back, letters)</c>, as part of another statement.</summary>
    public static string CountLetters(string schema, string gone) =>
        Schema.In(schema,
            $"{ToTally} SELECT queue, {Slot}, back, 0, letters, back, 0, 0, 0 "
            + $"FROM ({gone}) AS g (queue, back, letters) ORDER BY queue {OrAdd}");

    /// <summary>
    /// Counts what was handled elsewhere. What has come is what has gone, and what waits more than before: by looks of
    /// several at different moments, that may be less than nothing, which the next ones have to make up for.
    /// </summary>
    public readonly string CountElsewhere = server.Sql($"""
        WITH before AS MATERIALIZED (
            SELECT waiting, debt FROM courier.elsewhere WHERE queue = $1 FOR UPDATE),
        change AS (
            SELECT coalesce(max(debt), 0) + $2 + coalesce($3 - coalesce(max(waiting), 0), 0) AS came FROM before),
        kept AS (
            INSERT INTO courier.elsewhere AS e (queue, waiting, debt)
            SELECT $1, coalesce($3, 0), least(0, came) FROM change
            ON CONFLICT (queue) DO UPDATE SET waiting = coalesce($3, e.waiting), debt = excluded.debt)
        {ToTally} SELECT $1, {Slot}, 0, 0, 0, greatest(0, came), $2, 0, 0 FROM change {OrAdd}
        """);

    /// <summary>
    /// Counts what is taken over, of <c>(queue, copies, later, failed, letters)</c>, as part of another statement.
    /// </summary>
    public static string CountTakenOver(string schema, string taken) =>
        Schema.In(schema,
            $"{ToTally} SELECT queue, {Slot}, copies, later, letters, copies + letters, 0, failed, letters "
            + $"FROM ({taken}) AS t (queue, copies, later, failed, letters) {OrAdd}");

    /// <summary>
    /// Fails, and undoes the round trip, where the topology is no longer the one that the events were dealt by.
    /// </summary>
    public readonly string CheckTopology = server.Sql(
        "SELECT 1 / (version = $1 AND generation = $2)::int FROM courier.topology");

    /// <summary>
    /// Puts a stamp in the place of the one before; fails as <see cref="CheckTopology"/> does where that is not there.
    /// </summary>
    public readonly string Stamp = server.Sql("""
        WITH gone AS (DELETE FROM courier.stamp WHERE store = $1 AND term = $2 AND number = $3 RETURNING store)
        INSERT INTO courier.stamp SELECT max(store), $4, $5 / count(*) FROM gone
        """);

    /// <summary>The first stamp of a store, which comes before all others; where it has none.</summary>
    public readonly string FirstStamp = server.Sql("""
        INSERT INTO courier.stamp SELECT $1, 0, 0 WHERE NOT EXISTS (SELECT FROM courier.stamp WHERE store = $1)
        ON CONFLICT DO NOTHING
        """);

    public readonly string LastStamp = server.Sql("""
        SELECT generation, term, number FROM courier.topology CROSS JOIN LATERAL (
            SELECT term, number FROM courier.stamp WHERE store = $1 ORDER BY term DESC, number DESC LIMIT 1) last
        """);

    /// <summary>Clears away those before one: of publishes whose answer was lost.</summary>
    public readonly string ClearStamps = server.Sql(
        "DELETE FROM courier.stamp WHERE store = $1 AND (term, number) < ($2, $3)");

    /// <summary>How <see cref="CheckTopology"/> fails.</summary>
    public const string TopologyChanged = PostgresErrorCodes.DivisionByZero;

    // The waiting ones are looked for from where the last hand-over ended: what was settled before that lies there
    // until it is cleared away, which may take as long as the longest transaction of the whole database. Now and then,
    // and when there seem to be too few, the caller begins at 0, for what was given back, has lost its lease or was
    // committed late. Rows are found again by their place, locked as they are. Of what is found only as much is taken
    // as keeps to the budget of bytes, whatever the size of the last.
    public readonly string HandOver = server.Sql(HandingOver($"""
        SELECT ctid AS place, id, octet_length(event) AS bytes FROM courier.copy
        WHERE queue = $2 AND id > $3 AND key IS NULL AND {IsFree} AND {IsOpen}
        ORDER BY id LIMIT $4 FOR UPDATE SKIP LOCKED
        """));

    public readonly string IsInKeyOrder = server.Sql("SELECT in_key_order FROM courier.queue WHERE id = $1");

    /// <summary>Up to where links have found the queue to be empty.</summary>
    public readonly string Place = server.Sql("SELECT coalesce(max(place), 0) FROM courier.link WHERE queue = $1");

    private static string HandingOver(string found) => $"""
        WITH taken AS (
            UPDATE courier.copy SET {InHandNow} WHERE ctid = ANY (ARRAY (
                SELECT place FROM (
                    SELECT place, sum(bytes) OVER (ORDER BY id ROWS UNBOUNDED PRECEDING) - bytes AS before
                    FROM ({found}) AS first) AS next
                WHERE before <= {Budget.Bytes - Budget.LargestEvent}))
            RETURNING {HandedOver}),
        noted AS (
            INSERT INTO courier.link (id, queue, worker, in_hand, until, place, passed)
            SELECT $8, $2, $7, $9 + count(*), coalesce($1, now()) + $5 + {LinkRow.Slack}, $11, 0 FROM taken
            HAVING $10 = 2 OR $10 = 1 AND count(*) > 0
            ON CONFLICT (id) DO UPDATE SET in_hand = excluded.in_hand, until = greatest(link.until, excluded.until),
                place = excluded.place)
        SELECT id, attempts, abandoned, event, key, tried_for, here, waited, uncounted FROM taken
        """;

    /// <summary>What a hand-over changes: <c>$5</c> is the length of the lease, <c>$6</c> its number.</summary>
    public const string InHandNow = """
        attempts = attempts + 1,
        abandoned = abandoned + (until IS NOT NULL)::int,
        first_attempt = coalesce(first_attempt, $1, now()),
        error = CASE WHEN until IS NULL THEN error ELSE 'the lease of ' || holder || ' ran out' END,
        until = coalesce($1, now()) + $5, number = $6, holder = $7
        """;

    /// <summary>What is told of it.</summary>
    public const string HandedOver = """
        id, attempts, abandoned, event, key,
        CASE WHEN attempts > 1 OR error IS NOT NULL THEN coalesce($1, now()) - first_attempt - (
            SELECT coalesce(sum(least(ended, coalesce($1, now())) - greatest(began, first_attempt)), '0')
            FROM courier.pause p WHERE p.queue = copy.queue AND (ended IS NULL OR ended > first_attempt)) END
            AS tried_for,
        coalesce($1, now()) - arrived AS here, waited, uncounted
        """;

    /// <summary>All transactions before this one have ended.</summary>
    public readonly string Ended = PostgresServer.Ended;

    /// <summary>
    /// The first copy after a place, in hand or not, or that comes back there, and the number of the next transaction.
    /// </summary>
    public readonly string Left = server.Sql("""
        SELECT least((SELECT id FROM courier.copy WHERE queue = $1 AND id > $2 ORDER BY id LIMIT 1),
                (SELECT id FROM courier.later WHERE queue = $1 AND id > $2 AND key IS NOT NULL ORDER BY id LIMIT 1)),
            pg_snapshot_xmax(pg_current_snapshot())::text::bigint
        """);

    /// <summary>
    /// What a link has in hand, and how far it has looked; for as long as what it got last is leased.
    /// </summary>
    public readonly string NoteInHand = server.Sql($"""
        UPDATE courier.link SET in_hand = $2, passed = greatest(passed, $3),
            until = CASE WHEN $2 > 0 THEN greatest(until, coalesce($4, now()) + $5 + {LinkRow.Slack}) ELSE until END
        WHERE id = $1
        """);

    // At the end of the queue; where that is in key order, where it was.
    public readonly string Promote = server.Sql($"""
        WITH due AS (
            DELETE FROM courier.later WHERE ctid = ANY (ARRAY (
                SELECT ctid FROM courier.later WHERE queue = $2 AND due <= coalesce($1, now()) ORDER BY due, id
                    LIMIT 1000 FOR UPDATE SKIP LOCKED))
            RETURNING *),
        in_key_order AS (
            INSERT INTO courier.copy
                (queue, id, arrived, waited, attempts, uncounted, first_attempt, error, event, key, history, identity)
            OVERRIDING SYSTEM VALUE
            SELECT queue, id, arrived, waited, attempts, uncounted, first_attempt, error, event, key, history, identity
                FROM due WHERE key IS NOT NULL),
        turns AS (
            INSERT INTO courier.turn (queue, id, key) SELECT queue, id, key FROM due WHERE key IS NOT NULL),
        counted AS ({CountPromoted})
        INSERT INTO courier.copy
            (queue, arrived, waited, attempts, uncounted, first_attempt, error, event, history, identity)
        SELECT queue, arrived, waited, attempts, uncounted, first_attempt, error, event, history, identity FROM due
            WHERE key IS NULL ORDER BY due, id
        """);

    // Rows are named by their keys, one or a list of them. In a join the planner could come to think, while a queue is
    // empty, that reading all of it is as good a way to find them; and it would still do so with a million in it.
    // Of several hand-overs at once, whose numbers are in $3: nearly all is accepted, and exchanges have some of two.
    public readonly string Accept = server.Sql(Accepting(""));

    /// <summary>The same in key order, of copies with the keys <c>$4</c>.</summary>
    public readonly string AcceptWithKeys = server.Sql(
        Accepting($"freed AS ({KeyOrderStatements.FreeingOf("= ANY ($3)")}),"));

    private static string Accepting(string besides) => $"""
        WITH gone AS (
            DELETE FROM courier.copy WHERE queue = $1 AND id = ANY ($2) AND number = ANY ($3) RETURNING id, number),
        {besides}
        counted AS ({CountAccepted})
        SELECT id, number FROM gone
        """;

    public readonly string Release = server.Sql($"""
        UPDATE courier.copy
            SET attempts = attempts - 1, {NotInHand},
                first_attempt = CASE WHEN attempts > 1 OR error IS NOT NULL THEN first_attempt END
        WHERE {InHand} RETURNING id, $3
        """);

    // All that fail of one hand-over go together, each with its own of the lists: what is counted one by one would have
    // the same row of the tally rewritten for each of them.
    public readonly string RetryNow = server.Sql($"""
        WITH again AS (
            UPDATE courier.copy SET abandoned = 0, error = ($4)[array_position($2, id)], {NotInHand} WHERE {InHand}
            RETURNING id),
        counted AS ({CountRetry})
        SELECT id, $3 FROM again
        """);

    public readonly string RetryLater = server.Sql($"""
        WITH gone AS (DELETE FROM courier.copy WHERE {InHand} RETURNING *),
        kept AS (
            INSERT INTO courier.later
                (queue, due, id, arrived, waited, attempts, uncounted, first_attempt, error, event, key, history,
                identity)
            SELECT queue, coalesce($7, now()) + ($5)[place], id, arrived, waited, attempts - ($6)[place],
                uncounted + ($8)[place], first_attempt, ($4)[place], event, key, history, identity
                FROM gone CROSS JOIN LATERAL (SELECT array_position($2, id) AS place) p),
        counted AS ({CountDelay})
        SELECT id, $3 FROM gone
        """);

    /// <summary>
    /// A copy that was sent back becomes a letter of its own: one that says the same, and lies there already, goes.
    /// </summary>
    public readonly string ReplaceLetter = server.Sql($"""
        WITH gone AS (
            DELETE FROM courier.dead_letter WHERE queue = $1 AND identity = $4
                AND EXISTS (SELECT FROM courier.copy WHERE {InHand} AND history IS NOT NULL)
            RETURNING queue),
        counted AS ({CountLetters(server.SchemaName, "SELECT queue, 0, -count(*) FROM gone GROUP BY queue")})
        SELECT FROM gone
        """);

    // Where one that says the same is a letter already, it is that, and done with.
    public readonly string SetAside = server.Sql($"""
        WITH gone AS (DELETE FROM courier.copy WHERE {InHand} RETURNING *),
        kept AS (
            INSERT INTO courier.dead_letter (queue, reason, exception, message, stack, attempts, worker, arrived,
                first_attempt, set_aside, event, history, identity)
            SELECT queue, $4, $5, $6, $7, attempts, holder, arrived, first_attempt, coalesce($8, now()), event, history,
                $9 FROM gone
            ON CONFLICT DO NOTHING RETURNING id AS letter),
        counted AS ({CountSetAside})
        SELECT id, $3, letter FROM gone LEFT JOIN kept ON true
        """);

    public readonly string Renew = server.Sql(
        $"UPDATE courier.copy SET until = coalesce($4, now()) + $5 WHERE {InHand} RETURNING id");

    public readonly string RenewLink = server.Sql(
        $"UPDATE courier.link SET until = coalesce($1, now()) + $2 + {LinkRow.Slack} WHERE id = $3");

    /// <summary>
    /// For each queue whether something can be handed over, and how long it is until something falls due or a lease
    /// ends.
    /// </summary>
    public readonly string Look = server.Sql($"""
        SELECT q.id,
               (NOT u.is_paused OR u.paused_until <= coalesce($1, now())) AND (
               EXISTS (SELECT FROM courier.copy WHERE queue = q.id AND id > q.place AND key IS NULL
                   AND NOT u.in_key_order AND {IsFree})
               OR u.in_key_order AND (EXISTS (SELECT FROM courier.copy WHERE queue = q.id AND id > q.passed)
                   OR EXISTS (SELECT FROM courier.turn WHERE queue = q.id AND id > q.place)
                   OR EXISTS (SELECT FROM courier.link WHERE queue = q.id AND in_hand > 0 AND {IsFree}))
               OR EXISTS (SELECT FROM courier.later WHERE queue = q.id AND due <= coalesce($1, now()))),
               least(CASE WHEN u.paused_until > coalesce($1, now()) THEN u.paused_until END,
                     (SELECT min(due) FROM courier.later WHERE queue = q.id AND due > coalesce($1, now())),
                     (SELECT min(until) FROM courier.link WHERE queue = q.id AND in_hand > 0
                         AND NOT {IsFree})) - coalesce($1, now())
        FROM unnest($2, $3, $4) AS q (id, place, passed) JOIN courier.queue u ON u.id = q.id
        """);

    public readonly string Announce = server.Sql(
        $"SELECT pg_notify('{server.Channel("queue")}', id::text) FROM unnest($1) AS q (id)");

    /// <summary>What is announced where something has been ordered by hand.</summary>
    public const string ByHand = "by hand";

    public readonly string AnnounceByHand = server.Sql($"SELECT pg_notify('{server.Channel("queue")}', '{ByHand}')");

    public readonly string ForgetLinks = server.Sql(
        "DELETE FROM courier.link WHERE id = $1 AND in_hand = 0 OR until < now() - interval '1 day'");

    public readonly string Queues = server.Sql("SELECT name, in_key_order FROM courier.queue ORDER BY name");

    public readonly string NamedRoutes = server.Sql(
        "SELECT r.type, q.name FROM courier.route r JOIN courier.queue q ON q.id = r.queue ORDER BY 1, 2");

    public readonly string AddQueues = server.Sql(
        "INSERT INTO courier.queue (name) SELECT name FROM unnest($1) AS q (name) ORDER BY name ON CONFLICT DO "
        + "NOTHING");

    public readonly string AddRoutes = server.Sql("""
        INSERT INTO courier.route (type, queue, in_key_order)
            SELECT r.type, q.id, q.in_key_order FROM unnest($1, $2) AS r (type, name)
            JOIN courier.queue q ON q.name = r.name
        ORDER BY 1, 2 ON CONFLICT DO NOTHING
        """);

    // What is there already has no order, and gets keys when it is handed over; so does what is published meanwhile by
    // the old routes.
    public readonly string PutInKeyOrder = server.Sql("""
        WITH changed AS (
            UPDATE courier.queue SET in_key_order = true WHERE name = ANY ($1) RETURNING id)
        UPDATE courier.route SET in_key_order = true WHERE queue IN (SELECT id FROM changed)
        """);

    public readonly string ChangeTopology = server.Sql("UPDATE courier.topology SET version = version + 1");

    public readonly string QueueId = server.Sql("SELECT id FROM courier.queue WHERE name = $1");

    public readonly string QueueIds = server.Sql("SELECT id, name FROM courier.queue ORDER BY name");
}
