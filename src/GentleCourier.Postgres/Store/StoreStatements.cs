namespace GentleCourier.Postgres;

/// <summary>
/// What a store says to its database. <c>$1</c> is the time, or nothing for the server's own, where a statement takes
/// one.
/// </summary>
internal sealed class StoreStatements(PostgresServer server)
{
    private const string KeyIsHeld =
        "partition_key IN (SELECT partition_key FROM courier.outbox_held WHERE partition_key IS NOT NULL AND due IS "
        + "NOT NULL)";
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

    // A new leader begins a new term, without the last one's error.
    public readonly string Lead = server.Sql("""
        UPDATE courier.relay SET until = coalesce($1, now()) + $3, term = term + (relay IS DISTINCT FROM $2)::int,
            error = CASE WHEN relay = $2 THEN error END, waits = waits AND relay = $2, relay = $2
        WHERE relay IS NULL OR relay = $2 OR until < coalesce($1, now()) RETURNING term
        """);

    public readonly string Resign = server.Sql("UPDATE courier.relay SET relay = NULL, waits = false WHERE term = $1");

    public readonly string RecordError = server.Sql(
        "UPDATE courier.relay SET error = $2 WHERE term = $1 AND error IS DISTINCT FROM $2");

    public readonly string SetWaits = server.Sql(
        "UPDATE courier.relay SET waits = $1 WHERE term = $2 AND relay IS NOT NULL");

    /// <summary>
    /// Whether there is something; the oldest transaction under way that writes, and the number of the next one. Those
    /// that write at this moment have ended when a later look's second number has reached this one's third.
    /// </summary>
    public readonly string Look = server.Sql(
        """
        SELECT EXISTS (SELECT FROM courier.outbox), pg_snapshot_xmin(s)::text::bigint, pg_snapshot_xmax(s)::text::bigint
            FROM pg_current_snapshot() s
        """);

    /// <summary>
    /// Order: a fresh event must not pass an earlier one with its key that is held. Where a key is held, which is rare,
    /// its fresh events are moved behind it; those that slip in after that are left out by <see cref="Fresh"/>.
    /// </summary>
    public readonly string HoldFollowers = server.Sql($"""
        WITH followers AS (
            DELETE FROM courier.outbox
                WHERE id IN (SELECT id FROM (SELECT id, partition_key FROM courier.outbox ORDER BY id LIMIT $1) o
                    WHERE {KeyIsHeld})
            AND EXISTS (SELECT FROM courier.outbox_held WHERE partition_key IS NOT NULL AND due IS NOT NULL)
                RETURNING *)
        INSERT INTO courier.outbox_held (id, event_id, type, partition_key, added, event, attempts, due, error)
        SELECT id, event_id, type, partition_key, added, event, 0,
               (SELECT due FROM courier.outbox_held h WHERE h.partition_key = f.partition_key AND h.due IS NOT NULL
                   LIMIT 1),
               'waits behind an earlier event with its partition key'
        FROM followers f
        """);

    // Half of a batch at the most is for events that have failed before: however many there are, fresh ones get
    // through.
    public readonly string Due = server.Sql("""
        SELECT id, event_id, type, partition_key, event, attempts FROM courier.outbox_held
        WHERE due <= coalesce($1, now()) ORDER BY id LIMIT greatest(1, $2 / 2)
        """);

    public readonly string Fresh = server.Sql("""
        SELECT id, event_id, type, partition_key, event FROM courier.outbox o
        WHERE NOT (SELECT EXISTS (SELECT FROM courier.outbox_held WHERE partition_key IS NOT NULL AND due IS NOT NULL))
           OR (SELECT true FROM courier.outbox_held h WHERE h.partition_key = o.partition_key AND h.due IS NOT NULL
               LIMIT 1) IS NULL
        ORDER BY id
        LIMIT greatest(1, $2 - (SELECT count(*)
            FROM (SELECT FROM courier.outbox_held WHERE due <= coalesce($1, now()) LIMIT greatest(1, $2 / 2)) d))
        """);

    public readonly string NextDue = server.Sql("SELECT min(due) - coalesce($1, now()) FROM courier.outbox_held");

    public readonly string IsTerm = server.Sql($"SELECT {InTerm}");

    public readonly string DeleteFresh = server.Sql($"DELETE FROM courier.outbox WHERE id = ANY ($2) AND {InTerm}");

    public readonly string DeleteHeld = server.Sql($"DELETE FROM courier.outbox_held WHERE id = ANY ($2) AND {InTerm}");

    public readonly string HoldFresh = server.Sql($"""
        WITH gone AS (
            DELETE FROM courier.outbox WHERE id = $2 AND {InTerm} RETURNING *)
        INSERT INTO courier.outbox_held (id, event_id, type, partition_key, added, event, attempts, due, error)
        SELECT id, event_id, type, partition_key, added, event, 1, coalesce($5, now()) + $3, $4 FROM gone
        """);

    public readonly string HoldAgain = server.Sql($"""
        UPDATE courier.outbox_held SET attempts = attempts + 1, due = coalesce($5, now()) + $3, error = $4 WHERE id = $2
            AND {InTerm}
        """);

    // All that wait with one key are due together, so that they are read together and in order.
    public readonly string HoldKey = server.Sql($"""
        UPDATE courier.outbox_held SET due = coalesce($4, now()) + $3 WHERE partition_key = $2 AND due IS NOT NULL
            AND {InTerm}
        """);

    // In the order of their keys: two batches that share events wait for each other in one direction only.
    public readonly string AddToInbox = server.Sql("""
        INSERT INTO courier.inbox (queue, source, event_id, handled)
        SELECT $2, source, event_id, coalesce($1, now()) FROM unnest($3, $4) AS e (source, event_id)
            ORDER BY source, event_id
        ON CONFLICT DO NOTHING RETURNING 1
        """);

    public readonly string TakeFromInbox = server.Sql(
        "DELETE FROM courier.inbox WHERE queue = $1 AND source = $2 AND event_id = $3");

    public readonly string LookIntoInbox = server.Sql("""
        SELECT e.place::int FROM unnest($2, $3) WITH ORDINALITY AS e (source, event_id, place)
        WHERE (SELECT true FROM courier.inbox i WHERE i.queue = $1 AND i.source = e.source AND i.event_id = e.event_id)
        """);

    public readonly string CountCopy = server.Sql(
        "UPDATE courier.inbox SET copies = copies + 1 WHERE queue = $1 AND source = $2 AND event_id = $3");

    public readonly string Figures = server.Sql("""
        SELECT (SELECT count(*) FROM courier.outbox),
               (SELECT count(*) FROM courier.outbox_held WHERE due IS NOT NULL),
               (SELECT count(*) FROM courier.outbox_held WHERE due IS NULL),
               coalesce($1, now()) - least((SELECT added FROM courier.outbox ORDER BY id LIMIT 1),
                   (SELECT min(added) FROM courier.outbox_held WHERE due IS NOT NULL)),
               CASE WHEN until >= coalesce($1, now()) THEN relay END, error
        FROM courier.relay
        """);

    public readonly string Held = server.Sql(
        "SELECT event_id, type, attempts, error, due, added FROM courier.outbox_held ORDER BY id LIMIT $1");

    public readonly string Inbox = server.Sql(
        "SELECT source, event_id, copies, handled FROM courier.inbox WHERE queue = $1 ORDER BY handled");
}
