using GentleCourier.Engines;
using GentleCourier.Publishing;

namespace GentleCourier.Postgres;

/// <summary>
/// What a store says to its database. <c>$1</c> is the time, or nothing for the server's own, where a statement takes
/// one.
/// </summary>
internal sealed class StoreStatements(PostgresServer server)
{
    // In microseconds. Asked once by a statement, not for each row.
    private const string Started = "(SELECT (extract(epoch FROM pg_postmaster_start_time()) * 1000000)::bigint)";

    private const string InTerm = "EXISTS (SELECT FROM courier.relay WHERE term = $1 AND relay IS NOT NULL)";

    public readonly string Add = server.Sql(
        "INSERT INTO courier.outbox (event_id, type, partition_key, added, event) VALUES ($2, $3, $4, coalesce($1, "
        + "clock_timestamp()), $5)");

    public readonly string AddMany = server.Sql("""
        INSERT INTO courier.outbox (event_id, type, partition_key, added, event)
        SELECT event_id, type, partition_key, coalesce($1, clock_timestamp()), event
        FROM unnest($2, $3, $4, $5) WITH ORDINALITY AS e (event_id, type, partition_key, event, place) ORDER BY place
        """);

    // A transaction that notifies keeps all others that do from committing until it has. So it is done for a relay that
    // waits, and one that has work is left alone.
    public readonly string WakeRelay = server.Sql(
        $"SELECT pg_notify('{server.Channel("outbox")}', '') FROM courier.relay WHERE waits");

    // A new leader begins a new term, without the last one's error, where the last one's reading has come to.
    public readonly string Lead = server.Sql("""
        UPDATE courier.relay SET until = coalesce($1, now()) + $3, term = term + (relay IS DISTINCT FROM $2)::int,
            error = CASE WHEN relay = $2 THEN error END, waits = waits AND relay = $2,
            place = CASE WHEN relay = $2 THEN $4 ELSE place END, relay = $2
        WHERE relay IS NULL OR relay = $2 OR until < coalesce($1, now())
            OR until > coalesce($1, now()) + interval '11 minutes'
        RETURNING term, place
        """);

    public readonly string Resign = server.Sql("UPDATE courier.relay SET relay = NULL, waits = false WHERE term = $1");

    public readonly string RecordError = server.Sql(
        "UPDATE courier.relay SET error = $2 WHERE term = $1 AND error IS DISTINCT FROM $2");

    public readonly string Confirm = server.Sql($"""
        INSERT INTO courier.confirmed (generation, address, term, number) SELECT $2, $3, $4, $5 WHERE {InTerm}
        ON CONFLICT (generation, term, number) DO UPDATE SET address = excluded.address
        """);

    public readonly string ForgetConfirmed = server.Sql(
        $"DELETE FROM courier.confirmed WHERE generation = $2 AND term = $3 AND number = $4 AND {InTerm}");

    /// <summary>Which store this is, drawn where that is not known yet; nothing where the term is over.</summary>
    public readonly string Identify = server.Sql("""
        WITH drawn AS (
            UPDATE courier.relay SET identity = $2 WHERE term = $1 AND relay IS NOT NULL AND identity IS NULL
            RETURNING identity)
        SELECT coalesce(identity, (SELECT identity FROM drawn)) FROM courier.relay WHERE term = $1 AND relay IS NOT NULL
        """);

    /// <summary>
    /// Which brokers have confirmed something. Each is found by its last row, which comes first: those before it have
    /// been deleted, and lie there for as long as the longest transaction in the server.
    /// </summary>
    private const string Brokers = """
        WITH RECURSIVE brokers (generation) AS (
            (SELECT generation FROM courier.confirmed ORDER BY generation DESC, term DESC, number DESC LIMIT 1)
            UNION ALL
            SELECT (SELECT generation FROM courier.confirmed WHERE generation < b.generation
                ORDER BY generation DESC, term DESC, number DESC LIMIT 1)
            FROM brokers b WHERE generation IS NOT NULL)
        """;

    /// <summary>The last that each broker has confirmed.</summary>
    public readonly string Confirmed = server.Sql($"""
        {Brokers}
        SELECT c.generation, c.address, c.term, c.number FROM brokers b CROSS JOIN LATERAL (
            SELECT * FROM courier.confirmed WHERE generation = b.generation ORDER BY term DESC, number DESC LIMIT 1) c
        """);

    /// <summary>Clears away what came before the last of each.</summary>
    public readonly string ClearConfirmed = server.Sql("""
        DELETE FROM courier.confirmed WHERE generation = $1 AND (term, number) < ($2, $3)
        """);

    public readonly string RaiseTerm = server.Sql(
        "UPDATE courier.relay SET term = greatest($1, $2) + 1 WHERE term = $1 AND relay IS NOT NULL RETURNING term");

    public readonly string ForgetBrokers = server.Sql("DELETE FROM courier.confirmed");

    public readonly string EndTerm = server.Sql(
        "UPDATE courier.relay SET relay = NULL, waits = false, error = NULL, "
        + "identity = CASE WHEN NOT $1 THEN identity END");

    public readonly string SetWaits = server.Sql(
        "UPDATE courier.relay SET waits = $1 WHERE term = $2 AND relay IS NOT NULL");

    /// <summary>
    /// Whether there is something; the oldest transaction under way that writes, and the number of the next one. Those
    /// that write at this moment have ended when a later look's second number has reached this one's third.
    /// </summary>
    public readonly string Look = server.Sql(
        """
        SELECT EXISTS (SELECT FROM courier.outbox
            WHERE id > $1), pg_snapshot_xmin(s)::text::bigint, pg_snapshot_xmax(s)::text::bigint
            FROM pg_current_snapshot() s
        """);

    /// <summary>
    /// Of the keys that are due those that nothing waits with any more; all others are looked at when they are. A relay
    /// whose term is over may say it while the next one holds an event by such a key: then that has another time.
    /// </summary>
    public readonly string DropKeys = server.Sql($"""
        DELETE FROM courier.held_key k USING (
            SELECT partition_key, due FROM courier.held_key WHERE due <= (SELECT coalesce($2, now()))
            ORDER BY due LIMIT $3) d
        WHERE k.partition_key = d.partition_key AND k.due = d.due AND {InTerm} AND (
            SELECT true FROM courier.outbox_held h WHERE h.partition_key = d.partition_key AND h.due IS NOT NULL
            LIMIT 1) IS NULL
        """);

    /// <summary>The same of types.</summary>
    public readonly string DropTypes = server.Sql($"""
        DELETE FROM courier.held_type t USING (
            SELECT type, due FROM courier.held_type WHERE due <= (SELECT coalesce($2, now()))
            ORDER BY freed DESC, due LIMIT $3) d
        WHERE t.type = d.type AND t.due = d.due AND {InTerm} AND (
            SELECT true FROM courier.outbox_held h WHERE h.waits_for = d.type LIMIT 1) IS NULL
        """);

    /// <summary>
    /// Events that are held by a key, or wait for a route of a type, that is none, which the end of a term may leave,
    /// would never be read again.
    /// </summary>
    public readonly string FindKeys = server.Sql($"""
        INSERT INTO courier.held_key (partition_key, due, flows)
        SELECT DISTINCT ON (partition_key) partition_key, CASE WHEN waits_for IS NULL THEN coalesce($2, now()) END,
            false
        FROM courier.outbox_held h
        WHERE partition_key IS NOT NULL AND due IS NOT NULL AND {InTerm}
            AND (SELECT true FROM courier.held_key k WHERE k.partition_key = h.partition_key) IS NULL
        ORDER BY partition_key, id
        ON CONFLICT DO NOTHING
        """);

    /// <summary>The same of keys that are never due, though what they hold does not wait for a route.</summary>
    public readonly string FindTurns = server.Sql($"""
        UPDATE courier.held_key k SET due = coalesce($2, now()) WHERE due IS NULL AND {InTerm} AND (
            SELECT waits_for FROM courier.outbox_held h WHERE h.partition_key = k.partition_key AND h.due IS NOT NULL
            ORDER BY id LIMIT 1) IS NULL
        """);

    public readonly string FindTypes = server.Sql($"""
        WITH RECURSIVE waiting (type) AS (
            SELECT min(waits_for) FROM courier.outbox_held
            UNION ALL
            SELECT (SELECT min(waits_for) FROM courier.outbox_held WHERE waits_for > w.type) FROM waiting w
            WHERE w.type IS NOT NULL)
        INSERT INTO courier.held_type (type, due, freed)
        SELECT type, coalesce($2, now()), false FROM waiting WHERE type IS NOT NULL AND {InTerm}
        ON CONFLICT DO NOTHING
        """);

    /// <summary>
    /// Order: a fresh event must not pass an earlier one with its key that is held. Where a key is held, which is rare,
    /// its fresh events are moved behind it; those that slip in after that are left out by <see cref="Fresh"/>.
    /// </summary>
    public readonly string HoldFollowers = server.Sql($"""
        WITH lead AS MATERIALIZED (
            SELECT FROM courier.relay WHERE term = $1 AND relay IS NOT NULL AND EXISTS (SELECT FROM courier.held_key)
            FOR SHARE),
        followers AS (
            DELETE FROM courier.outbox WHERE EXISTS (SELECT FROM lead) AND id IN (
                SELECT id FROM (
                    SELECT id, partition_key FROM courier.outbox WHERE id > $2 ORDER BY id LIMIT $3) o
                WHERE (SELECT true FROM courier.held_key k WHERE k.partition_key = o.partition_key))
            RETURNING *)
        INSERT INTO courier.outbox_held (id, event_id, type, partition_key, added, event, attempts, due, error)
        SELECT id, event_id, type, partition_key, added, event, 0, now(), '{Marking.Follows}' FROM followers
        """);

    // A quarter of a batch at the most is for events that have failed before, and another for those that follow them:
    // however many there are, fresh ones get through.
    public readonly string Due = server.Sql(Within($"""
        SELECT id, event_id, type, partition_key, event, attempts, address, {WaitOf("$1")}
        FROM courier.outbox_held
        WHERE partition_key IS NULL AND waits_for IS NULL AND due <= (SELECT coalesce($1, now()))
        ORDER BY due, id LIMIT greatest(1, $2 / 4)
        """));

    /// <summary>
    /// Of types that are due the oldest event that waits for a route; of those that have one again, as many as a batch
    /// takes. Each was the first of its key when it was held, and still is.
    /// </summary>
    public readonly string DueTypes = server.Sql(Within($"""
        SELECT h.* FROM (
            SELECT type, freed FROM courier.held_type WHERE due <= (SELECT coalesce($1, now()))
            ORDER BY freed, due LIMIT greatest(1, $2 / 4)) t
        CROSS JOIN LATERAL (
            SELECT id, event_id, type, partition_key, event, attempts, address, {WaitOf("$1")}
            FROM courier.outbox_held WHERE waits_for = t.type
            ORDER BY id LIMIT CASE WHEN t.freed THEN $2 ELSE 1 END) h
        LIMIT $2
        """));

    public readonly string DueKeys = server.Sql(Within($"""
        SELECT h.* FROM (
            SELECT partition_key, flows FROM courier.held_key WHERE due <= (SELECT coalesce($1, now()))
            ORDER BY due LIMIT greatest(1, $2 / 4)) k
        CROSS JOIN LATERAL (
            SELECT id, event_id, type, partition_key, event, attempts, address, {WaitOf("$1")}
            FROM courier.outbox_held
            WHERE partition_key = k.partition_key AND due IS NOT NULL
            ORDER BY id LIMIT CASE WHEN k.flows THEN greatest(1, $2 / 4) ELSE 1 END) h
        ORDER BY h.id LIMIT greatest(1, $2 / 4)
        """));

    // Asked row by row, by the key, where any is held: however many are, that costs what is read.
    private const string IsFree = """
        (NOT (SELECT EXISTS (SELECT FROM courier.held_key))
            OR (SELECT true FROM courier.held_key k WHERE k.partition_key = o.partition_key) IS NULL)
        """;

    public readonly string Fresh = server.Sql(Within($"""
        SELECT id, event_id, type, partition_key, event, 0, NULL, {WaitOf("$3")} FROM courier.outbox o
        WHERE id > $1 AND {IsFree} ORDER BY id LIMIT $2
        """));

    /// <summary>
    /// What lies behind so many rows that are on their way, after a place and up to a row. Not where there are others
    /// that need not wait: those were committed late, and what lies behind may follow one of them.
    /// </summary>
    public readonly string FreshBehind = server.Sql(Within($"""
        SELECT id, event_id, type, partition_key, event, 0, NULL, {WaitOf("$5")} FROM courier.outbox o
        WHERE id > $2 AND {IsFree}
            AND (SELECT count(*) FROM courier.outbox o WHERE id > $1 AND id <= $2 AND {IsFree}) = $3
        ORDER BY id LIMIT $4
        """));

    public readonly string NextDue = server.Sql("""
        SELECT least((SELECT min(due) FROM courier.outbox_held WHERE partition_key IS NULL AND waits_for IS NULL),
                     (SELECT min(due) FROM courier.held_key WHERE due IS NOT NULL),
                     (SELECT min(due) FROM courier.held_type)) - coalesce($1, now())
        """);

    /// <summary>
    /// Transactions before this number have ended: to be asked before reading. And when the server was started: one
    /// that was promoted or restored since may give a number again, so what was read before is not forgotten by it.
    /// </summary>
    public readonly string Ended = $"{PostgresServer.Ended}, {Started}";

    /// <summary>
    /// The first row that is left after a place, and the number that the next transaction gets: to be asked after
    /// reading.
    /// </summary>
    public readonly string Left = server.Sql("""
        SELECT (SELECT id FROM courier.outbox WHERE id > $1 ORDER BY id LIMIT 1),
               pg_snapshot_xmax(pg_current_snapshot())::text::bigint
        """);

    public readonly string IsTerm = server.Sql($"SELECT {InTerm}");

    /// <summary>
    /// The same, and until the transaction has ended nobody else takes the lead: what several statements hold together
    /// is held by one term.
    /// </summary>
    public readonly string StaysTerm = server.Sql("""
        WITH lead AS MATERIALIZED (
            SELECT FROM courier.relay WHERE term = $1 AND relay IS NOT NULL FOR SHARE)
        SELECT EXISTS (SELECT FROM lead)
        """);

    public readonly string ForgetFresh = server.Sql(
        $"DELETE FROM courier.outbox WHERE id = ANY ($1) AND {Started} = $2");

    public readonly string ForgetHeld = server.Sql(
        $"DELETE FROM courier.outbox_held WHERE id = ANY ($1) AND {Started} = $2");

    public readonly string HoldFresh = server.Sql($"""
        WITH gone AS (DELETE FROM courier.outbox WHERE id = ANY ($2) AND {InTerm} RETURNING *)
        INSERT INTO courier.outbox_held
            (id, event_id, type, partition_key, added, event, attempts, due, error, waits_for)
        SELECT g.id, event_id, type, partition_key, added, event, m.attempts, coalesce($6, now()) + m.after, m.error,
            CASE WHEN m.waits THEN type END
        FROM gone g JOIN unnest($2, $3, $4, $5, $7) AS m (id, attempts, after, error, waits) ON m.id = g.id
        """);

    /// <summary>Rows, negated where they are of those that are held, make room for what is left of them.</summary>
    public readonly string HoldParts = server.Sql($"""
        WITH parts AS (
            SELECT * FROM unnest($2, $3, $4, $5, $6, $7) WITH ORDINALITY
                AS p (part_of, key, address, attempts, after, error, place)),
        fresh AS (
            DELETE FROM courier.outbox WHERE id IN (SELECT part_of FROM parts) AND {InTerm}
            RETURNING id AS part_of, event_id, type, added, event),
        held AS (
            DELETE FROM courier.outbox_held WHERE id IN (SELECT -part_of FROM parts) AND {InTerm}
            RETURNING -id AS part_of, event_id, type, added, event)
        INSERT INTO courier.outbox_held
            (id, event_id, type, added, event, partition_key, address, attempts, due, error)
        SELECT nextval(pg_get_serial_sequence('courier.outbox', 'id')), event_id, type, added, event, p.key, p.address,
            p.attempts, coalesce($8, now()) + p.after, p.error
        FROM parts p JOIN (SELECT * FROM fresh UNION ALL SELECT * FROM held) g USING (part_of) ORDER BY place
        """);

    public readonly string HeldKeys = server.Sql(
        "SELECT partition_key FROM courier.held_key WHERE partition_key = ANY ($1)");

    public readonly string HoldAgain = server.Sql($"""
        UPDATE courier.outbox_held h SET attempts = m.attempts, due = coalesce($6, now()) + m.after, error = m.error,
            waits_for = CASE WHEN m.waits THEN h.type END
        FROM unnest($2, $3, $4, $5, $7) AS m (id, attempts, after, error, waits) WHERE h.id = m.id AND {InTerm}
        """);

    public readonly string HoldKeys = server.Sql($"""
        INSERT INTO courier.held_key (partition_key, due, flows)
        SELECT k.key, coalesce($4, now()) + k.after, false FROM unnest($2, $3) AS k (key, after) WHERE {InTerm}
        ON CONFLICT (partition_key) DO UPDATE SET due = excluded.due, flows = false
        """);

    /// <summary>
    /// Types without a route. Where a fresh event has found it out, the try that is planned stays; a type that had been
    /// freed waits again.
    /// </summary>
    public readonly string HoldTypes = server.Sql($"""
        INSERT INTO courier.held_type AS t (type, due, freed)
        SELECT n.type, coalesce($5, now()) + n.after, false FROM unnest($2, $3) AS n (type, after) WHERE {InTerm}
        ON CONFLICT (type) DO UPDATE SET freed = false,
            due = CASE WHEN t.freed OR excluded.type = ANY ($4) THEN excluded.due ELSE t.due END
        """);

    public readonly string FreeTypes = server.Sql($"""
        UPDATE courier.held_type SET freed = true, due = coalesce($3, now())
        WHERE type = ANY ($2) AND NOT freed AND {InTerm}
        """);

    /// <summary>
    /// Keys whose oldest event waited for a route, and has been published though another leads by now: the next one's
    /// turn has come. Who leads frees them.
    /// </summary>
    public readonly string WakeKeys = server.Sql($"""
        UPDATE courier.held_key SET due = coalesce($3, now())
        WHERE partition_key = ANY ($2) AND due IS NULL AND NOT {InTerm}
        """);

    /// <summary>
    /// To be asked before <see cref="DropFreed"/> and <see cref="FreeKeys"/>, in statements of their own: whoever holds
    /// something more by such a key has it locked, and is seen.
    /// </summary>
    public readonly string LockKeys = server.Sql("""
        SELECT FROM courier.held_key WHERE partition_key = ANY ($1) ORDER BY partition_key FOR UPDATE
        """);

    /// <summary>Of keys whose oldest event has gone those that nothing waits with.</summary>
    public readonly string DropFreed = server.Sql($"""
        DELETE FROM courier.held_key k WHERE partition_key = ANY ($2) AND {InTerm} AND (
            SELECT true FROM courier.outbox_held h WHERE h.partition_key = k.partition_key AND h.due IS NOT NULL
            LIMIT 1) IS NULL
        """);

    public readonly string FreeKeys = server.Sql($"""
        UPDATE courier.held_key SET due = coalesce($3, now()), flows = true
        WHERE partition_key = ANY ($2) AND {InTerm}
        """);

    // In the order of their keys: two batches that share events wait for each other in one direction only.
    public readonly string AddToInbox = server.Sql("""
        INSERT INTO courier.inbox (queue, source, event_id, handled, hash)
        SELECT $2, source, event_id, coalesce($1, now()), hash FROM unnest($3, $4, $5) AS e (source, event_id, hash)
            ORDER BY source, event_id
        ON CONFLICT DO NOTHING RETURNING 1
        """);

    public readonly string TakeFromInbox = server.Sql(
        "DELETE FROM courier.inbox WHERE queue = $1 AND source = $2 AND event_id = $3");

    public readonly string LookIntoInbox = server.Sql("""
        SELECT e.place::int FROM unnest($2, $3) WITH ORDINALITY AS e (source, event_id, place)
        WHERE (SELECT true FROM courier.inbox i WHERE i.queue = $1 AND i.source = e.source AND i.event_id = e.event_id)
        """);

    /// <summary>Counts a copy; tells what was handled, where that had other data.</summary>
    public readonly string CountCopy = server.Sql("""
        UPDATE courier.inbox SET copies = copies + 1, other = CASE WHEN hash <> $5 THEN $5 ELSE other END,
            other_at = CASE WHEN hash <> $5 THEN coalesce($1, now()) ELSE other_at END
        WHERE queue = $2 AND source = $3 AND event_id = $4 RETURNING CASE WHEN hash <> $5 THEN hash END
        """);

    public readonly string Figures = server.Sql($"""
        {Brokers}
        SELECT (SELECT count(*) FROM (SELECT FROM courier.outbox WHERE id > place LIMIT $2) f),
               (SELECT id FROM courier.outbox ORDER BY id DESC LIMIT 1)
                   - (SELECT id FROM courier.outbox WHERE id > place ORDER BY id LIMIT 1) + 1,
               (SELECT count(*) FROM (SELECT FROM courier.outbox_held LIMIT $3) k),
               (SELECT count(*) FROM (SELECT due FROM courier.outbox_held ORDER BY id LIMIT $3) k WHERE due IS NULL),
               coalesce($1, now()) - least(
                   (SELECT added FROM courier.outbox WHERE id > place ORDER BY id LIMIT 1),
                   (SELECT added FROM courier.outbox_held WHERE due IS NOT NULL ORDER BY id LIMIT 1)),
               CASE WHEN until >= coalesce($1, now()) THEN relay END, error,
               (SELECT count(*) FROM (SELECT FROM courier.outbox_later LIMIT $4) l),
               least((SELECT min(due) FROM courier.outbox_later), (SELECT min(due) FROM courier.schedule))
                   - coalesce($1, now()),
               (SELECT count(generation) FROM brokers)
        FROM courier.relay
        """);

    // What keeps deleted rows from being cleared away: a transaction of this database that has a snapshot or has
    // written. Of other users' sessions only some may see when they began.
    public readonly string Leftovers = server.Sql("""
        SELECT (SELECT n_dead_tup FROM pg_stat_all_tables WHERE relid = 'courier.outbox'::regclass), age, holder
        FROM (SELECT) AS always LEFT JOIN LATERAL (
            SELECT clock_timestamp() - xact_start AS age,
                concat_ws(', ', 'process ' || pid, 'user ' || usename, nullif(application_name, ''), state) AS holder
            FROM pg_stat_activity
            WHERE datname = current_database() AND pid <> pg_backend_pid() AND backend_type = 'client backend'
                AND coalesce(backend_xmin, backend_xid) IS NOT NULL AND xact_start IS NOT NULL
            UNION ALL
            SELECT clock_timestamp() - prepared, 'prepared transaction ' || gid FROM pg_prepared_xacts
            WHERE database = current_database()
            ORDER BY 1 DESC LIMIT 1) AS oldest ON true
        """);

    // The inbox has no index by age, which each event would pay for: its pages are gone through one after another.
    public readonly string ForgetHandled = server.Sql("""
        WITH gone AS (
            DELETE FROM courier.inbox WHERE ctid >= format('(%s,0)', $3)::tid AND ctid < format('(%s,0)', $4)::tid
                AND handled < coalesce($1, now()) - $2 RETURNING 1)
        SELECT (SELECT count(*)::int FROM gone),
            pg_relation_size('courier.inbox') / current_setting('block_size')::bigint
        """);

    public readonly string Forgetting = server.Sql("""
        INSERT INTO courier.store_chore AS c (chore, until, before) VALUES ($2, 'epoch', coalesce($1, now()) - $3)
        ON CONFLICT (chore) DO UPDATE SET before = greatest(c.before, excluded.before)
        """);

    public readonly string ClearRefused = server.Sql("""
        DELETE FROM courier.outbox_held WHERE id = ANY (ARRAY (
            SELECT id FROM courier.outbox_held WHERE due IS NULL AND added < coalesce($1, now()) - $2
            ORDER BY id LIMIT $3)) RETURNING 1
        """);

    /// <summary>Of rows in their order the first ones, to the limit of bytes; one at the least.</summary>
    /// <summary>For how long a row has waited in the outbox; nothing where that is not worth telling.</summary>
    /// <param name="now">The parameter with the time, or nothing for the server's own.</param>
    public static string WaitOf(string now) => $"nullif(greatest(coalesce({now}, now()) - added, '1s'), '1s')";

    private static string Within(string rows) => $"""
        SELECT id, event_id, type, partition_key, event, attempts, address, waited FROM (
            SELECT *, sum(octet_length(event)) OVER (ORDER BY id ROWS UNBOUNDED PRECEDING)
                - octet_length(event) AS before
            FROM ({rows}) r (id, event_id, type, partition_key, event, attempts, address, waited)) b
        WHERE before < {Budget.Bytes} ORDER BY id
        """;
}
