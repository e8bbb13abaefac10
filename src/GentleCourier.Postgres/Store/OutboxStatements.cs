using GentleCourier.Engines;
using GentleCourier.Publishing;

namespace GentleCourier.Postgres;

/// <summary>How a relay reads an outbox: what is due of what is held, and what is fresh.</summary>
internal sealed class OutboxStatements(PostgresServer server)
{
    // In microseconds. Asked once by a statement, not for each row.
    public const string Started = "(SELECT (extract(epoch FROM pg_postmaster_start_time()) * 1000000)::bigint)";

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
        WHERE k.partition_key = d.partition_key AND k.due = d.due AND {LeadStatements.InTerm} AND (
            SELECT true FROM courier.outbox_held h WHERE h.partition_key = d.partition_key AND h.due IS NOT NULL
            LIMIT 1) IS NULL
        """);

    /// <summary>The same of obstacles.</summary>
    public readonly string DropObstacles = server.Sql($"""
        DELETE FROM courier.held_obstacle t USING (
            SELECT waits_for, due FROM courier.held_obstacle WHERE due <= (SELECT coalesce($2, now()))
            ORDER BY freed DESC, due LIMIT $3) d
        WHERE t.waits_for = d.waits_for AND t.due = d.due AND {LeadStatements.InTerm} AND (
            SELECT true FROM courier.outbox_held h WHERE h.waits_for = d.waits_for LIMIT 1) IS NULL
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
    /// Of obstacles that are due the oldest event that waits for each; of those that are gone, as many as a batch
    /// takes. Each was the first of its key when it was held, and still is.
    /// </summary>
    public readonly string DueObstacles = server.Sql(Within($"""
        SELECT h.* FROM (
            SELECT waits_for, freed FROM courier.held_obstacle WHERE due <= (SELECT coalesce($1, now()))
            ORDER BY freed, due LIMIT greatest(1, $2 / 4)) t
        CROSS JOIN LATERAL (
            SELECT id, event_id, type, partition_key, event, attempts, address, {WaitOf("$1")}
            FROM courier.outbox_held WHERE waits_for = t.waits_for
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
                     (SELECT min(due) FROM courier.held_obstacle)) - coalesce($1, now()),
            EXISTS (SELECT FROM courier.relay_pause WHERE until IS NULL OR until > coalesce($1, now()))
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

    public readonly string HeldKeys = server.Sql(
        "SELECT partition_key FROM courier.held_key WHERE partition_key = ANY ($1)");

    /// <summary>For how long a row has waited in the outbox; nothing where that is not worth telling.</summary>
    /// <param name="now">The parameter with the time, or nothing for the server's own.</param>
    public static string WaitOf(string now) => $"nullif(greatest(coalesce({now}, now()) - added, '1s'), '1s')";

    /// <summary>Of rows in their order the first ones, to the limit of bytes; one at the least.</summary>
    private static string Within(string rows) => $"""
        SELECT id, event_id, type, partition_key, event, attempts, address, waited FROM (
            SELECT *, sum(octet_length(event)) OVER (ORDER BY id ROWS UNBOUNDED PRECEDING)
                - octet_length(event) AS before
            FROM ({rows}) r (id, event_id, type, partition_key, event, attempts, address, waited)) b
        WHERE before < {Budget.Bytes} ORDER BY id
        """;
}
