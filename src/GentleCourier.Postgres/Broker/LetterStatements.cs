namespace GentleCourier.Postgres;

/// <summary>
/// What a broker says to its database about dead letters. <c>$1</c> is the time, or nothing for the server's own, where
/// a statement takes one.
/// </summary>
internal sealed class LetterStatements(PostgresServer server)
{
    public readonly string SendBack = server.Sql($"""
        WITH gone AS (DELETE FROM courier.dead_letter WHERE id = ANY ($2) RETURNING id, queue, identity),
        back AS (
            INSERT INTO courier.copy (queue, arrived, event, key, history, identity)
            SELECT g.queue, coalesce($1, now()), ($3)[place],
                CASE WHEN (SELECT in_key_order FROM courier.queue WHERE id = g.queue) THEN ($4)[place] END,
                ($5)[place], g.identity
            FROM gone g CROSS JOIN LATERAL (SELECT array_position($2, g.id) AS place) p ORDER BY place
            RETURNING queue),
        counted AS ({BrokerStatements.CountLetters(
            server.SchemaName, "SELECT queue, count(*), -count(*) FROM back GROUP BY queue")})
        SELECT id, queue FROM gone
        """);

    public readonly string Discard = server.Sql($"""
        WITH gone AS (DELETE FROM courier.dead_letter WHERE id = ANY ($1) RETURNING id, queue),
        counted AS ({Uncounted(server)})
        SELECT id FROM gone
        """);

    /// <summary>Of the first <c>$4</c> letters of a queue those that are older than <c>$3</c>.</summary>
    public readonly string ClearOld = server.Sql($"""
        WITH gone AS (
            DELETE FROM courier.dead_letter WHERE id = ANY (ARRAY (
                SELECT id FROM (
                    SELECT id, set_aside FROM courier.dead_letter WHERE queue = $2 ORDER BY queue, id LIMIT $4) f
                WHERE set_aside < coalesce($1, now()) - $3))
            RETURNING id, queue),
        counted AS ({Uncounted(server)})
        SELECT id FROM gone
        """);

    private static string Uncounted(PostgresServer server) => BrokerStatements.CountLetters(
        server.SchemaName, "SELECT queue, 0, -count(*) FROM gone GROUP BY queue");
}
