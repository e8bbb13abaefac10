namespace GentleCourier.Postgres;

/// <summary>Who leads the relays of a store, in which term, and what brokers have confirmed to it.</summary>
internal sealed class LeadStatements(PostgresServer server)
{
    public const string InTerm = "EXISTS (SELECT FROM courier.relay WHERE term = $1 AND relay IS NOT NULL)";

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

    public readonly string SetWaits = server.Sql(
        "UPDATE courier.relay SET waits = $1 WHERE term = $2 AND relay IS NOT NULL");

    /// <summary>
    /// Which brokers have confirmed something. Each is found by its last row, which comes first: those before it have
    /// been deleted, and lie there for as long as the longest transaction in the server.
    /// </summary>
    public const string Brokers = """
        WITH RECURSIVE brokers (generation) AS (
            (SELECT generation FROM courier.confirmed ORDER BY generation DESC, term DESC, number DESC LIMIT 1)
            UNION ALL
            SELECT (SELECT generation FROM courier.confirmed WHERE generation < b.generation
                ORDER BY generation DESC, term DESC, number DESC LIMIT 1)
            FROM brokers b WHERE generation IS NOT NULL)
        """;

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

    /// <summary>
    /// Events that are held by a key, or wait for an obstacle, that is none, which the end of a term may leave,
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

    /// <summary>The same of keys that are never due, though what they hold waits for no obstacle.</summary>
    public readonly string FindTurns = server.Sql($"""
        UPDATE courier.held_key k SET due = coalesce($2, now()) WHERE due IS NULL AND {InTerm} AND (
            SELECT waits_for FROM courier.outbox_held h WHERE h.partition_key = k.partition_key AND h.due IS NOT NULL
            ORDER BY id LIMIT 1) IS NULL
        """);

    public readonly string FindObstacles = server.Sql($"""
        WITH RECURSIVE waiting (name) AS (
            SELECT min(waits_for) FROM courier.outbox_held
            UNION ALL
            SELECT (SELECT min(waits_for) FROM courier.outbox_held WHERE waits_for > w.name) FROM waiting w
            WHERE w.name IS NOT NULL)
        INSERT INTO courier.held_obstacle (waits_for, due, freed)
        SELECT name, coalesce($2, now()), false FROM waiting WHERE name IS NOT NULL AND {InTerm}
        ON CONFLICT DO NOTHING
        """);
}
