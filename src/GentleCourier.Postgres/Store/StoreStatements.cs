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

    /// <summary>When a row of the inbox was written: whole seconds, which is enough, take half the room.</summary>
    public const string HandledAt = "timestamptz '2020-01-01 00:00Z' + handled * interval '1 second'";

    private static string Seconds(string time) =>
        $"floor(extract(epoch FROM {time} - timestamptz '2020-01-01 00:00Z'))::int";

    public readonly string AddOneToInbox = server.Sql($"""
        INSERT INTO courier.inbox (origin, id, handled, hash, event_id)
        VALUES ($2, $3, {Seconds("coalesce($1, now())")}, $4, $5) ON CONFLICT DO NOTHING RETURNING 1
        """);

    // In the order of their keys: two batches that share events wait for each other in one direction only.
    public readonly string AddToInbox = server.Sql($"""
        INSERT INTO courier.inbox (origin, id, handled, hash, event_id)
        SELECT origin, id, {Seconds("coalesce($1, now())")}, hash, event_id
            FROM unnest($2, $3, $4, $5) AS e (origin, id, hash, event_id) ORDER BY origin, id
        ON CONFLICT DO NOTHING RETURNING 1
        """);

    public readonly string NameSources = server.Sql("""
        INSERT INTO courier.inbox_source AS s (origin, queue, source, seen)
        SELECT origin, $3, source, coalesce($1, now()) FROM unnest($2, $4) AS e (origin, source) ORDER BY origin
        ON CONFLICT (origin) DO UPDATE SET seen = greatest(s.seen, excluded.seen)
        """);

    public readonly string TakeFromInbox = server.Sql("DELETE FROM courier.inbox WHERE origin = $1 AND id = $2");

    public readonly string LookIntoInbox = server.Sql("""
        SELECT e.place::int FROM unnest($1, $2) WITH ORDINALITY AS e (origin, id, place)
        WHERE (SELECT true FROM courier.inbox i WHERE i.origin = e.origin AND i.id = e.id)
        """);

    /// <summary>Counts a copy; tells what was handled, where that had other data.</summary>
    public readonly string CountCopy = server.Sql("""
        UPDATE courier.inbox SET copies = coalesce(copies, 1) + 1, other = CASE WHEN hash <> $4 THEN $4 ELSE other END,
            other_at = CASE WHEN hash <> $4 THEN coalesce($1, now()) ELSE other_at END
        WHERE origin = $2 AND id = $3 RETURNING CASE WHEN hash <> $4 THEN hash END
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
    public readonly string ForgetHandled = server.Sql($"""
        WITH gone AS (
            DELETE FROM courier.inbox WHERE ctid >= format('(%s,0)', $3)::tid AND ctid < format('(%s,0)', $4)::tid
                AND handled < {Seconds("coalesce($1, now()) - $2")} RETURNING 1)
        SELECT (SELECT count(*)::int FROM gone),
            pg_relation_size('courier.inbox') / current_setting('block_size')::bigint
        """);

    // Who handles writes a name again after an hour. What is older is named in no row, once those are gone.
    public readonly string ForgetNames = server.Sql("""
        WITH looked AS (SELECT origin, seen FROM courier.inbox_source WHERE origin > $3 ORDER BY origin LIMIT $4),
        gone AS (
            DELETE FROM courier.inbox_source s USING looked l WHERE s.origin = l.origin
                AND s.seen < coalesce($1, now()) - $2
                AND NOT EXISTS (SELECT FROM courier.inbox i WHERE i.origin = l.origin) RETURNING 1)
        SELECT count(*)::int, max(origin), (SELECT count(*) FROM gone) FROM looked
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
