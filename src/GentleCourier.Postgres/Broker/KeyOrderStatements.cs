using GentleCourier.Engines;

namespace GentleCourier.Postgres;

/// <summary>
/// How a queue in key order is handed over: of the keys that nobody has in hand those begin whose first copy is the
/// oldest. Its copies are looked at in their order, once; one whose key is in hand is passed by, and looked for when
/// that is settled. So a hand-over costs what it hands over, however many keys and copies there are.
/// </summary>
internal sealed class KeyOrderStatements(PostgresServer server)
{
    private const string IsFree = BrokerStatements.IsFree;

    private static string Of(string table) => IsFree.Replace("until", $"{table}.until", StringComparison.Ordinal);

    /// <summary>
    /// Hands over the oldest of what may be: of <c>$13</c> copies in the line from <c>$3</c> on, of as many that were
    /// passed, between <c>$15</c> and <c>$16</c>, of the last that were, from <c>$17</c> on, of turns, and of the keys
    /// <c>$12</c>. Whoever adds the row of a key has it in hand: two that want one wait for each other, and by the time
    /// that one of them has it nobody else's copy of that key is in hand.
    /// What may be handed over, and is not, stays in the line, or has a turn: a settled key's next copy only where
    /// somebody may have passed it by, up to <c>$14</c>, or where this link takes no more.
    /// </summary>
    /// <remarks>
    /// A copy that is passed since its key is in hand is found again by whoever settles that: it looks in a transaction
    /// of its own, after the settlement is committed, and so sees all that anybody has passed before.
    /// </remarks>
    public readonly string HandOver = server.Sql(HandingOver(looksAgain: true));

    /// <summary>The same where nothing that was passed is looked at: it costs less.</summary>
    public readonly string HandOverOfLine = server.Sql(HandingOver(looksAgain: false));

    private const string Again = """
        part AS MATERIALIZED (
            SELECT id, key, until, octet_length(event) AS bytes FROM courier.copy
            WHERE queue = $2 AND id > $15 AND id <= $16 ORDER BY id LIMIT $13),
        again AS MATERIALIZED (
            SELECT * FROM part UNION SELECT id, key, until, octet_length(event) AS bytes FROM courier.copy
            WHERE queue = $2 AND id > $17 AND id <= $3),
        seen AS MATERIALIZED (SELECT * FROM line UNION ALL SELECT * FROM again),

        """;

    private const string WhatAgain = "(SELECT max(id) FROM part), (SELECT count(*) FROM part)";

    private static string HandingOver(bool looksAgain) => $"""
        WITH line AS MATERIALIZED (
            SELECT id, key, until, octet_length(event) AS bytes FROM courier.copy
            WHERE queue = $2 AND id > $3 ORDER BY id LIMIT $13),
        {(looksAgain ? Again : "")}        turns AS MATERIALIZED (
            SELECT ctid AS place, id, key FROM courier.turn WHERE queue = $2
            ORDER BY id LIMIT greatest($4, 100) FOR UPDATE SKIP LOCKED),
        keys AS (
            SELECT key FROM {(looksAgain ? "seen" : "line")} s WHERE key IS NOT NULL UNION SELECT key FROM turns
            UNION SELECT key FROM unnest($12) AS k (key)),
        first AS MATERIALIZED (
            SELECT f.id, k.key, f.bytes FROM keys k CROSS JOIN LATERAL (
                SELECT c.id, octet_length(c.event) AS bytes FROM courier.copy c
                WHERE c.queue = $2 AND c.key = k.key AND c.id > $11 ORDER BY c.id LIMIT 1) f
            WHERE (SELECT true FROM courier.key_lease l WHERE l.queue = $2 AND l.key = k.key AND NOT {Of("l")}) IS NULL
                AND (SELECT true FROM courier.later r WHERE r.queue = $2 AND r.key = k.key LIMIT 1) IS NULL
            UNION ALL
            SELECT id, chr(1) || lpad(id::text, 20, '0'), bytes
            FROM {(looksAgain ? "seen" : "line")} n WHERE key IS NULL AND {IsFree}),
        next AS MATERIALIZED (
            SELECT id, key FROM (
                SELECT id, key, row_number() OVER (ORDER BY id) AS rank,
                    sum(bytes) OVER (ORDER BY id ROWS UNBOUNDED PRECEDING) - bytes AS before FROM first) f
            WHERE rank <= $4 AND before <= {Budget.Bytes - Budget.LargestEvent}),
        free AS MATERIALIZED (
            SELECT id FROM courier.copy WHERE queue = $2 AND id = ANY (ARRAY (SELECT id FROM next)) AND {IsFree}
            FOR UPDATE SKIP LOCKED),
        held AS (
            INSERT INTO courier.key_lease AS l (queue, key, id, number, until)
            SELECT $2, n.key, n.id, $6, coalesce($1, now()) + $5 FROM next n WHERE n.id IN (SELECT id FROM free)
            ORDER BY n.key
            ON CONFLICT (queue, key) DO UPDATE SET id = excluded.id, number = excluded.number, until = excluded.until
                WHERE {Of("l")}
            RETURNING id),
        taken AS (
            UPDATE courier.copy SET {BrokerStatements.InHandNow},
                key = coalesce(key, chr(1) || lpad(id::text, 20, '0'))
            WHERE queue = $2 AND id = ANY (ARRAY (SELECT id FROM held))
            RETURNING {BrokerStatements.HandedOver}),
        spent AS (
            DELETE FROM courier.turn WHERE ctid = ANY (ARRAY (
                SELECT place FROM turns t WHERE t.key IN (SELECT key FROM next)
                    OR NOT EXISTS (SELECT FROM first f WHERE f.key = t.key)))),
        turned AS (
            INSERT INTO courier.turn (queue, id, key)
            SELECT $2, id, key FROM first f WHERE key NOT IN (SELECT key FROM next)
                AND key NOT IN (SELECT key FROM turns)
                AND CASE WHEN key = ANY ($12) THEN id <= $3 OR id <= $14 OR $4 = 0 ELSE id <= $3
                    AND (SELECT true FROM courier.turn t WHERE t.queue = $2 AND t.id = f.id LIMIT 1) IS NULL END
            RETURNING 1),
        passed AS (
            SELECT coalesce((SELECT min(id) - 1 FROM first WHERE id > $3 AND id <= (SELECT max(id) FROM line)
                    AND id NOT IN (SELECT id FROM next)), (SELECT max(id) FROM line), $3) AS id),
        noted AS (
            INSERT INTO courier.link (id, queue, worker, in_hand, until, place, passed)
            SELECT $8, $2, $7, $9 + (SELECT count(*) FROM taken), coalesce($1, now()) + $5, $11, id FROM passed
            WHERE $10 OR id > $3 OR EXISTS (SELECT FROM taken)
            ON CONFLICT (id) DO UPDATE SET in_hand = excluded.in_hand, until = greatest(link.until, excluded.until),
                place = CASE WHEN $11 > 0 THEN $11 ELSE link.place END, passed = excluded.passed)
        SELECT t.id, attempts, abandoned, event, key, tried_for, here, waited, p.id, (SELECT count(*) FROM line),
            (SELECT count(*) FROM turned){(looksAgain ? $",{WhatAgain}" : "")}
        FROM passed p LEFT JOIN taken t ON true
        """;

    /// <summary>Keys that are settled are nobody's, if they were of this hand-over.</summary>
    public readonly string Free = server.Sql(
        "DELETE FROM courier.key_lease WHERE queue = $1 AND key = ANY ($2) AND number = $3");

    public readonly string Renew = server.Sql("""
        UPDATE courier.key_lease SET until = coalesce($4, now()) + $5
        WHERE queue = $1 AND key = ANY ($2) AND number = $3
        """);

    /// <summary>How far links have looked.</summary>
    public readonly string Passed = server.Sql("SELECT coalesce(max(passed), 0) FROM courier.link WHERE queue = $1");

    /// <summary>
    /// Other links whose leases have run out have nothing in hand any more; each is told of once. The keys that they
    /// had have their turns; what they had settled, and not looked for, has to be found.
    /// </summary>
    public readonly string Bury = server.Sql($"""
        WITH dead AS (
            UPDATE courier.link SET in_hand = 0 WHERE queue = $2 AND in_hand > 0 AND id <> $3 AND {IsFree} RETURNING 1),
        turned AS (
            INSERT INTO courier.turn (queue, id, key)
            SELECT queue, id, key FROM courier.key_lease
            WHERE queue = $2 AND {IsFree} AND EXISTS (SELECT FROM dead))
        SELECT 1 FROM dead
        """);
}
