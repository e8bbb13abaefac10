using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>What is said to the database of events that wait until they are due.</summary>
internal sealed class LaterStatements(PostgresServer server)
{
    /// <summary>What listeners to the outbox hear when something is due soon.</summary>
    public const string News = "later";

    private const string Columns = "id, event_id, type, partition_key, due, added, event";

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

    public readonly string Move = server.Sql("""
        WITH moved AS (
            UPDATE courier.outbox_later l SET due = date_trunc('milliseconds', $1), event = m.event
            FROM unnest($2, $3, $4) AS m (id, event_id, event) WHERE l.id = m.id AND l.event_id = m.event_id
            RETURNING 1)
        SELECT count(*)::int FROM moved
        """);

    public readonly string Time = "SELECT coalesce($1, clock_timestamp())";

    /// <summary>Reads what a filter takes, from a place on.</summary>
    public (string Sql, NpgsqlParameter[] Parameters) Read(LaterFilter which, int limit, LaterEvent? after)
    {
        var (where, said) = Where(which);
        var parameters = said.Append(Parameter.Of(limit)).ToList();
        var count = parameters.Count;
        // Where few are meant they are found by what they are, and not by going through all in their order.
        var found = which.Id is null && which.PartitionKey is null ? "NOT MATERIALIZED" : "MATERIALIZED";
        if (after is not null)
        {
            where += $" AND (due, id) > (${count + 1}, ${count + 2})";
            parameters.Add(Parameter.Of((DateTime?)after.Due.UtcDateTime));
            parameters.Add(Parameter.Of(after.Row));
        }
        return (server.Sql($"""
            WITH found AS {found} (SELECT id AS row, due AS at FROM courier.outbox_later WHERE {where})
            SELECT {Columns} FROM (
                SELECT *, sum(octet_length(event)) OVER (ORDER BY due, id ROWS UNBOUNDED PRECEDING)
                    - octet_length(event) AS before
                FROM (SELECT * FROM found ORDER BY at, row LIMIT ${count}) f JOIN courier.outbox_later ON id = row) b
            WHERE before < {Budget.Bytes} ORDER BY due, id
            """), [.. parameters]);
    }

    public (string Sql, NpgsqlParameter[] Parameters) Cancel(LaterFilter which)
    {
        var (where, said) = Where(which);
        return (server.Sql($"""
            WITH gone AS (DELETE FROM courier.outbox_later WHERE {where} RETURNING 1) SELECT count(*)::int FROM gone
            """), said);
    }

    private static (string Where, NpgsqlParameter[] Parameters) Where(LaterFilter which)
    {
        (string Column, string? Said)[] all =
            [("event_id", which.Id), ("partition_key", which.PartitionKey), ("type", which.Type)];
        var said = all.Where(a => a.Said is not null).ToList();
        return (string.Join(" AND ", ["true", .. said.Select((a, i) => $"{a.Column} = ${i + 1}")]),
            [.. said.Select(a => Parameter.Of(a.Said))]);
    }
}
