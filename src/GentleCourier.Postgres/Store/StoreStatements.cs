namespace GentleCourier.Postgres;

/// <summary>
/// What a store says to its database for publishers, receivers, watchers and chores. <c>$1</c> is the time, or nothing
/// for the server's own, where a statement takes one.
/// </summary>
internal sealed class StoreStatements(PostgresServer server)
{
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
        {LeadStatements.Brokers}
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
}
