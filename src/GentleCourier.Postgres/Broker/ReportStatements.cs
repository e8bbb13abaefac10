using GentleCourier.Engines;
using GentleCourier.Tables;

namespace GentleCourier.Postgres;

/// <summary>
/// What a broker asks its database about itself, and what workers say there. <c>$1</c> is the time, or nothing for the
/// server's own, where a statement takes one.
/// </summary>
internal sealed class ReportStatements(PostgresServer server)
{
    // Copies are counted as they come and go, and those in hand by link. Of those that come later, the few whose time
    // has come since anybody looked are ready. The oldest is first in line: behind where links know of nothing left,
    // since before it there may be many that are dead.
    public readonly string Figures = server.Sql("""
        SELECT q.id, q.name, coalesce($1, now()), t.copies,
               (SELECT coalesce(sum(in_hand), 0)::bigint FROM courier.link WHERE queue = q.id
                   AND until > coalesce($1, now())),
               t.later - (SELECT count(*) FROM courier.later WHERE queue = q.id AND due <= coalesce($1, now())),
               t.dead,
               coalesce($1, now()) - least(
                   (SELECT arrived FROM courier.copy WHERE queue = q.id AND id > (
                       SELECT coalesce(max(place), 0) FROM courier.link WHERE queue = q.id) ORDER BY id LIMIT 1),
                   (SELECT min(arrived) FROM courier.later WHERE queue = q.id)),
               ARRAY (SELECT type FROM courier.route WHERE queue = q.id ORDER BY type),
               t.came, t.accepted, t.failed, t.set_aside
        FROM courier.queue q CROSS JOIN LATERAL (
            SELECT coalesce(sum(copies), 0)::bigint AS copies, coalesce(sum(later), 0)::bigint AS later,
                coalesce(sum(dead), 0)::bigint AS dead, COUNTS FROM courier.tally WHERE queue = q.id) t
        ORDER BY q.name
        """.Replace("COUNTS", Counts, StringComparison.Ordinal));

    private const string Counts = """
        coalesce(sum(came), 0)::bigint AS came, coalesce(sum(accepted), 0)::bigint AS accepted,
            coalesce(sum(failed), 0)::bigint AS failed, coalesce(sum(set_aside), 0)::bigint AS set_aside
        """;

    public readonly string History = server.Sql(
        "SELECT queue, at, came, accepted, failed, set_aside FROM courier.history WHERE at > coalesce($1, '-infinity') "
        + "ORDER BY at");

    // The first that comes within ten seconds counts for all.
    public readonly string Remember = server.Sql($"""
        WITH due AS MATERIALIZED (
            SELECT id, place FROM courier.queue CROSS JOIN (SELECT {RingOf("coalesce($1, now())")} AS ring) r
            CROSS JOIN LATERAL (SELECT (ring % {Ring.Places})::int AS place) p
            WHERE NOT EXISTS (
                SELECT FROM courier.history h WHERE h.queue = id AND h.place = p.place AND {RingOf("h.at")} = ring))
        INSERT INTO courier.history AS h (queue, place, at, came, accepted, failed, set_aside)
        SELECT id, place, coalesce($1, now()), came, accepted, failed, set_aside FROM due
            CROSS JOIN LATERAL (SELECT {Counts} FROM courier.tally WHERE queue = id) t
        ORDER BY id
        ON CONFLICT (queue, place) DO UPDATE SET at = excluded.at, came = excluded.came, accepted = excluded.accepted,
            failed = excluded.failed, set_aside = excluded.set_aside WHERE {RingOf("h.at")} <> {RingOf("excluded.at")}
        """);

    private static string RingOf(string time) =>
        FormattableString.Invariant($"floor(extract(epoch FROM {time}) / {Ring.Every.TotalSeconds})::bigint");

    /// <summary>
    /// Those in hand, and those that may be, by their number, and then those that come later, by when.
    /// </summary>
    public static Sql Look(Sql queue, QueueCursor from, int limit)
    {
        var (at, copy) = from.AfterTimed;
        return $"""
            SELECT * FROM (
                (SELECT 0 AS part, NULL::timestamptz AS at, id AS place, event, attempts,
                    CASE WHEN until > {Sql.Now} THEN 2 ELSE 0 END AS state,
                    CASE WHEN until > {Sql.Now} THEN until END AS ends, arrived, error, history,
                    CASE WHEN until > {Sql.Now} THEN holder END AS worker
                FROM courier.copy WHERE queue = {queue} AND id > {from.AfterCopy} ORDER BY id LIMIT {limit})
                UNION ALL
                (SELECT 1, due, id, event, attempts, CASE WHEN due > {Sql.Now} THEN 1 ELSE 0 END,
                    CASE WHEN due > {Sql.Now} THEN due END, arrived, error, history, NULL
                FROM courier.later WHERE queue = {queue} AND (due, id) > ({at}, {copy}) ORDER BY due, id LIMIT {limit})
            ) q ORDER BY part, at, place LIMIT {limit}
            """;
    }

    // Along with it, those that are long gone are forgotten.
    public readonly string Beat = server.Sql("""
        WITH gone AS (DELETE FROM courier.worker WHERE until < coalesce($1, now()) AND id <> $2)
        INSERT INTO courier.worker AS w (id, seen, until, report)
        VALUES ($2, coalesce($1, now()), coalesce($1, now()) + $3, $4)
        ON CONFLICT (id) DO UPDATE SET seen = excluded.seen, until = excluded.until, report = excluded.report
        """);

    public readonly string Leave = server.Sql("DELETE FROM courier.worker WHERE id = $1");

    public readonly string Workers = server.Sql(
        "SELECT report, seen, coalesce($1, now()) FROM courier.worker WHERE until > coalesce($1, now())");

    public readonly string EstimateRows = server.Sql("""
        SELECT coalesce(sum(greatest(0, reltuples)), 0)::bigint FROM pg_class WHERE oid IN
            ('courier.copy'::regclass, 'courier.later'::regclass, 'courier.dead_letter'::regclass)
        """);

    /// <summary>
    /// Counts the rows of a queue and adds to its tally what is missing there: both of one moment, and what comes and
    /// goes meanwhile is added besides.
    /// </summary>
    public readonly string Recount = server.Sql($"""
        WITH there AS MATERIALIZED (
            SELECT (SELECT count(*) FROM courier.copy WHERE queue = $1) AS copies,
                (SELECT count(*) FROM courier.later WHERE queue = $1) AS later,
                (SELECT count(*) FROM courier.dead_letter WHERE queue = $1) AS dead),
        told AS MATERIALIZED (
            SELECT coalesce(sum(copies), 0)::bigint AS copies, coalesce(sum(later), 0)::bigint AS later,
                coalesce(sum(dead), 0)::bigint AS dead FROM courier.tally WHERE queue = $1),
        missing AS MATERIALIZED (
            SELECT there.copies + there.later - told.copies AS copies, there.later - told.later AS later,
                there.dead - told.dead AS dead FROM there, told),
        mended AS (
            {BrokerStatements.ToTally} SELECT $1, {BrokerStatements.Slot}, copies, later, dead, 0, 0, 0, 0 FROM missing
            WHERE (copies, later, dead) <> (0, 0, 0) {BrokerStatements.OrAdd})
        SELECT copies, dead FROM missing
        """);
}
