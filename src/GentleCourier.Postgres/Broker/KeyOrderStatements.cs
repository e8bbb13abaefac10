using GentleCourier.Engines;

namespace GentleCourier.Postgres;

/// <summary>
/// How a queue in key order is handed over: of the keys that nobody has in hand those begin whose first copy is the
/// oldest. Its copies are looked at in their order, once; one whose key is in hand is passed by, and looked for when
/// that is settled. So a hand-over costs what it hands over, however many keys and copies there are, and however much
/// is dead and cannot be cleared away.
/// </summary>
internal sealed class KeyOrderStatements(PostgresServer server)
{
    /// <summary>So many copies at the most.</summary>
    public const int Short = 64;

    private const string IsFree = BrokerStatements.IsFree;

    private static string Of(string table) => IsFree.Replace("until", $"{table}.until", StringComparison.Ordinal);

    /// <summary>
    /// Hands over the oldest of what may be: of <c>$13</c> copies in the line from <c>$3</c> on, of as many that were
    /// passed, between <c>$16</c> and <c>$17</c>, of the last that were, from <c>$18</c> on, of turns, and of the keys
    /// <c>$12</c>. Of two that want the same copy one gets it; for two that want different ones of a key see
    /// <see cref="Contested"/>. After a settlement (<c>$15</c>) it takes only where that was committed.
    /// What may be handed over, and is not, stays in the line, or has a turn: a settled key's next copy only where
    /// somebody may have passed it by, up to <c>$14</c>. What lies behind the line's end does not begin before what is
    /// between.
    /// </summary>
    /// <remarks>
    /// A copy that is passed since its key is in hand is found again by whoever settles that: it looks in a transaction
    /// of its own, after the settlement is committed, and so sees all that anybody has passed before. Both go to the
    /// server together, so that it has to see whether the settlement was (<see cref="RoundTrip.Commit(long)"/>).
    /// </remarks>
    public readonly string HandOver = server.Sql(HandingOver(ofAll: true));

    /// <summary>
    /// The same of the line and the keys alone, without what was passed and turns, and of <see cref="Short"/> copies at
    /// the most, a number that the planner knows: it costs less.
    /// </summary>
    public readonly string HandOverOfLine = server.Sql(HandingOver(ofAll: false));

    /// <summary>
    /// Gives the next copy of each key a turn where somebody may have passed it by: for a settlement that takes
    /// nothing.
    /// </summary>
    public readonly string Tell = server.Sql($"""
        WITH first AS MATERIALIZED (SELECT f.id, k.key FROM unnest($3) AS k (key) {First("$4", "$5")}),
        turned AS (INSERT INTO courier.turn (queue, id, key) SELECT $2, id, key FROM first RETURNING 1)
        SELECT count(*) > 0 FROM turned
        """);

    // Of the keys k the first copies that may be handed over, from where the queue begins; and no further than where
    // the line, or another link's, has come to: what lies ahead of all is found there.
    private static string First(string place, string most) => $"""
        CROSS JOIN LATERAL (
                SELECT c.id, c.until, octet_length(c.event) AS bytes FROM courier.copy c
                WHERE c.queue = $2 AND c.key = k.key AND c.id > {place} AND c.id <= {most} ORDER BY c.id LIMIT 1) f
            WHERE {Of("f")} AND (SELECT true FROM courier.key_lease l
                    WHERE l.queue = $2 AND l.key = k.key AND l.id > f.id AND NOT {Of("l")} LIMIT 1) IS NULL
                AND (SELECT true FROM courier.later r WHERE r.queue = $2 AND r.key = k.key LIMIT 1) IS NULL
        """;

    private const string Again = """
        part AS MATERIALIZED (
            SELECT id, key, until, octet_length(event) AS bytes FROM courier.copy
            WHERE queue = $2 AND id > $16 AND id <= $17 ORDER BY id LIMIT $13),
        again AS MATERIALIZED (
            SELECT * FROM part UNION SELECT id, key, until, octet_length(event) AS bytes FROM courier.copy
            WHERE queue = $2 AND id > $18 AND id <= $3),
        seen AS MATERIALIZED (SELECT * FROM line UNION ALL SELECT * FROM again),
        turns AS MATERIALIZED (
            SELECT ctid AS place, id, key FROM courier.turn WHERE queue = $2 AND id > $11
            ORDER BY id LIMIT greatest($4, 16) FOR UPDATE SKIP LOCKED),

        """;

    private const string Spent = """
        spent AS (
            DELETE FROM courier.turn WHERE ctid = ANY (ARRAY (
                SELECT place FROM turns t WHERE t.key IN (SELECT key FROM next)
                    OR NOT EXISTS (SELECT FROM first f WHERE f.key = t.key)))),

        """;

    private static string HandingOver(bool ofAll) => $"""
        WITH line AS MATERIALIZED (
            SELECT * FROM (
                SELECT id, key, until, octet_length(event) AS bytes FROM courier.copy
                WHERE queue = $2 AND id > $3 ORDER BY id LIMIT $13) AS line {(ofAll ? "" : $"LIMIT {Short}")}),
        {(ofAll ? Again : "")}        keys AS (
            SELECT key, max(most) AS most FROM (
                SELECT key, {long.MaxValue} AS most FROM {(ofAll ? "seen" : "line")} s WHERE key IS NOT NULL
                UNION ALL SELECT key, greatest($3, $14) FROM unnest($12) AS k (key)
                {(ofAll ? $"UNION ALL SELECT key, {long.MaxValue} FROM turns" : "")}) AS all_keys
            GROUP BY key),
        first AS MATERIALIZED (
            SELECT f.id, k.key, f.bytes FROM keys k {First("$11", "k.most")}
            UNION ALL
            SELECT id, chr(1) || lpad(id::text, 20, '0'), bytes
            FROM {(ofAll ? "seen" : "line")} n WHERE key IS NULL AND {IsFree}),
        next AS MATERIALIZED (
            SELECT id, key FROM (
                SELECT id, key, row_number() OVER (ORDER BY id) AS rank,
                    sum(bytes) OVER (ORDER BY id ROWS UNBOUNDED PRECEDING) - bytes AS before FROM first) f
            WHERE rank <= $4 AND {BrokerStatements.IsOpen} AND (NOT $15 OR {RoundTrip.IsCommitted("$6")})
                AND (id <= (SELECT max(id) FROM line) OR (SELECT count(*) FROM line) < $13)
                AND before <= {Budget.Bytes - Budget.LargestEvent}),
        free AS MATERIALIZED (
            SELECT ctid AS place, id FROM courier.copy
            WHERE queue = $2 AND id = ANY (ARRAY (SELECT id FROM next)) AND {IsFree} FOR UPDATE SKIP LOCKED),
        held AS (
            INSERT INTO courier.key_lease (queue, key, id, number, until)
            SELECT $2, n.key, n.id, $6, coalesce($1, now()) + $5 FROM next n WHERE n.id IN (SELECT id FROM free)
            ON CONFLICT (queue, key, id) DO UPDATE SET number = excluded.number, until = excluded.until),
        taken AS (
            UPDATE courier.copy SET {BrokerStatements.InHandNow},
                key = coalesce(key, chr(1) || lpad(id::text, 20, '0'))
            WHERE ctid = ANY (ARRAY (SELECT place FROM free))
            RETURNING {BrokerStatements.HandedOver}),
        {(ofAll ? Spent : "")}        turned AS (
            INSERT INTO courier.turn (queue, id, key)
            SELECT $2, id, key FROM first f WHERE key NOT IN (SELECT key FROM next)
                {(ofAll ? "AND key NOT IN (SELECT key FROM turns)" : "")}
                AND CASE WHEN key = ANY ($12) THEN id <= greatest($3, $14) ELSE id <= $3
                    AND (SELECT true FROM courier.turn t WHERE t.queue = $2 AND t.id = f.id LIMIT 1) IS NULL END
            RETURNING 1),
        passed AS (
            SELECT coalesce((SELECT min(id) - 1 FROM first WHERE id > $3 AND id <= (SELECT max(id) FROM line)
                    AND id NOT IN (SELECT id FROM next)), (SELECT max(id) FROM line), $3) AS id),
        noted AS (
            INSERT INTO courier.link (id, queue, worker, in_hand, until, place, passed)
            SELECT $8, $2, $7, $9 + (SELECT count(*) FROM taken), coalesce($1, now()) + $5 + {LinkRow.Slack}, $11, id
            FROM passed WHERE $10 = 2 OR $10 = 1 AND EXISTS (SELECT FROM taken)
            ON CONFLICT (id) DO UPDATE SET in_hand = excluded.in_hand, until = greatest(link.until, excluded.until),
                place = CASE WHEN $11 > 0 THEN $11 ELSE link.place END, passed = excluded.passed)
        SELECT t.id, attempts, abandoned, event, key, tried_for, here, waited, uncounted, p.id,
            (SELECT count(*) FROM line), (SELECT count(*) FROM turned),
            (SELECT true FROM courier.turn WHERE queue = $2 AND id > $11 LIMIT 1) IS NOT NULL,
            (SELECT set_config('gentle.taken', coalesce(array_agg(id), '{"{}"}')::text, false)
                || set_config('gentle.taken_keys', coalesce(array_agg(key), '{"{}"}')::text, false) FROM taken),
            {BrokerStatements.IsOpen}
            {(ofAll ? ", (SELECT max(id) FROM part), (SELECT count(*) FROM part)" : "")}
        FROM passed p LEFT JOIN taken t ON true
        """;

    /// <summary>
    /// Of what the transaction before has taken, what somebody else has in hand another copy of, of the same key: one
    /// of the two was committed late, so that whoever took the other did not see it. It has to be given back before it
    /// is begun. Asked once it is committed, so that of two that take at the same moment one sees the other.
    /// </summary>
    public readonly string Contested = server.Sql($"""
        SELECT t.id FROM unnest(current_setting('gentle.taken', true)::bigint[],
            current_setting('gentle.taken_keys', true)::text[]) AS t (id, key)
        CROSS JOIN LATERAL (
            SELECT id FROM courier.copy f WHERE f.queue = $2 AND f.key = t.key AND f.id > $3 ORDER BY id LIMIT 1) first
        WHERE (SELECT true FROM courier.key_lease l WHERE l.queue = $2 AND l.key = t.key AND l.id >= first.id
            AND l.number <> $4 AND NOT {Of("l")} LIMIT 1) IS NOT NULL
        """);

    // One by one: in a join the planner could come to think that reading all leases is as good a way to find some.
    private static string InHand(string number) => $"""
        ctid = ANY (ARRAY (SELECT l.place FROM unnest($2, $4) AS u (id, key) CROSS JOIN LATERAL (
            SELECT ctid AS place FROM courier.key_lease l
            WHERE l.queue = $1 AND l.key = u.key AND l.id = u.id AND l.number {number} LIMIT 1) l))
        """;

    /// <summary>What is settled is in nobody's hands, if it was of this hand-over.</summary>
    public readonly string Free = server.Sql(FreeingOf("= $3"));

    /// <summary>The same, which other statements of the same parameters do along with theirs.</summary>
    public static string FreeingOf(string number) => $"DELETE FROM courier.key_lease WHERE {InHand(number)}";

    public readonly string Renew = server.Sql(
        $"UPDATE courier.key_lease SET until = coalesce($5, now()) + $6 WHERE {InHand("= $3")}");

    /// <summary>Turns of what is gone.</summary>
    public readonly string ClearTurns = server.Sql("DELETE FROM courier.turn WHERE queue = $1 AND id <= $2");

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
