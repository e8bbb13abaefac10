namespace GentleCourier.Postgres;

/// <summary>What is said to the database of events that wait until they are due.</summary>
internal sealed class LaterStatements(PostgresServer server)
{
    /// <summary>What listeners to the outbox hear when something is due soon.</summary>
    public const string News = "later";

    /// <summary>Times are to the millisecond, as everybody else keeps them.</summary>
    public readonly string Add = server.Sql("""
        INSERT INTO courier.outbox_later (event_id, type, partition_key, added, due, event)
        SELECT event_id, type, partition_key, coalesce($1, clock_timestamp()),
            date_trunc('milliseconds', coalesce(at, coalesce($1, clock_timestamp()) + delay)), event
        FROM unnest($2, $3, $4, $5, $6, $7) WITH ORDINALITY
            AS e (event_id, type, partition_key, event, at, delay, place) ORDER BY place
        """);

    public readonly string Tell = server.Sql($"SELECT pg_notify('{server.Channel("outbox")}', '{News}')");

    /// <summary>When something is due next, looked for from a time on.</summary>
    public readonly string Look = server.Sql("""
        SELECT (SELECT min(due) FROM courier.outbox_later WHERE due >= $2) - coalesce($1, clock_timestamp()),
               (SELECT min(due) FROM courier.schedule WHERE name <> ALL ($3)) - coalesce($1, clock_timestamp())
        """);

    /// <summary>
    /// Moves what is due into the outbox, where the term is not over. It counts as added when it was due. What another
    /// has locked is passed by, so that nobody's transaction is waited for. The time is asked for once: row by row, the
    /// whole table would be compared with it.
    /// </summary>
    public readonly string MoveDue = server.Sql("""
        WITH gone AS (
            DELETE FROM courier.outbox_later WHERE id = ANY (ARRAY (
                SELECT id FROM courier.outbox_later WHERE due >= $2 AND due <= (SELECT coalesce($1, clock_timestamp()))
                ORDER BY due, id LIMIT $3 FOR UPDATE SKIP LOCKED))
            AND EXISTS (SELECT FROM courier.relay WHERE term = $4 AND relay IS NOT NULL)
            RETURNING id, event_id, type, partition_key, due, event),
        added AS (
            INSERT INTO courier.outbox (event_id, type, partition_key, added, event)
            SELECT event_id, type, partition_key, due, event FROM gone ORDER BY due, id)
        SELECT count(*)::int, max(due) FROM gone
        """);
}
