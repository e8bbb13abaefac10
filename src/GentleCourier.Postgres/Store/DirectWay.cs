using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>
/// From the outbox into the queues of the same database, by one statement: no event travels, and nothing can come
/// between leaving the one and being in the other. Only what is plain goes this way; where an event is held for its
/// turn, has no route or is too large, the batch goes the usual one, which knows what to do. What is moved is announced
/// in the same transaction: it does not wait for the disk, so that nobody waits for it.
/// </summary>
internal sealed class DirectWay(PostgresRelay relay, PostgresBroker broker) : IDirectWay
{
    private readonly string move = $"""
        WITH next AS MATERIALIZED (
            SELECT * FROM (
                SELECT id, type, partition_key, octet_length(event) AS size,
                    sum(octet_length(event)) OVER (ORDER BY id ROWS UNBOUNDED PRECEDING) AS bytes
                FROM (SELECT id, type, partition_key, event FROM store.outbox WHERE id > $4 ORDER BY id LIMIT $2) o) b
            WHERE bytes - size < {Budget.Bytes}),
        plain AS (
            SELECT EXISTS (SELECT FROM store.relay WHERE term = $1 AND relay IS NOT NULL)
               AND NOT EXISTS (SELECT FROM store.relay_pause WHERE until IS NULL OR until > coalesce($3, now()))
               AND NOT EXISTS (SELECT FROM store.held_key WHERE due <= (SELECT coalesce($3, now())))
               AND NOT EXISTS (SELECT FROM store.held_obstacle WHERE due <= (SELECT coalesce($3, now())))
               AND NOT EXISTS (SELECT FROM store.outbox_held WHERE partition_key IS NULL AND waits_for IS NULL
                    AND due <= (SELECT coalesce($3, now())))
               AND NOT EXISTS (
                    SELECT FROM next WHERE size > {Budget.LargestEvent}
                        OR ((SELECT EXISTS (SELECT FROM store.held_key))
                            AND (SELECT true FROM store.held_key k WHERE k.partition_key = next.partition_key))
                        OR NOT EXISTS (SELECT FROM broker.route r WHERE r.type = next.type)) AS yes),
        moved AS (
            DELETE FROM store.outbox WHERE id = ANY (ARRAY (SELECT id FROM next)) AND (SELECT yes FROM plain)
            RETURNING id, type, event, partition_key, {OutboxStatements.WaitOf("$3")} AS waited),
        copies AS (
            INSERT INTO broker.copy (queue, arrived, event, waited, key)
            SELECT r.queue, coalesce($3, now()), m.event, m.waited,
                CASE WHEN r.in_key_order THEN m.partition_key END
            FROM moved m
            CROSS JOIN LATERAL (SELECT queue, in_key_order FROM broker.route WHERE type = m.type OFFSET 0) r
            ORDER BY m.id
            RETURNING queue),
        counted AS (COUNTED),
        tally AS (SELECT type, count(*)::int AS events FROM moved GROUP BY type)
        SELECT (SELECT max(id) FROM moved), array_agg(queue), count(pg_notify('CHANNEL', queue::text)),
            (SELECT array_agg(type) FROM tally), (SELECT array_agg(events) FROM tally)
        FROM (SELECT DISTINCT queue FROM copies) q
        """
        .Replace("store.", $"\"{relay.Server.SchemaName}\".", StringComparison.Ordinal)
        .Replace("broker.", $"\"{broker.Server.SchemaName}\".", StringComparison.Ordinal)
        .Replace("CHANNEL", broker.Server.Channel("queue"), StringComparison.Ordinal)
        .Replace("COUNTED", Counted(broker.Server.SchemaName), StringComparison.Ordinal);

    private static readonly Dictionary<string, int> None = [];

    private bool mayNot;

    /// <summary>The way from this store to that broker, where they are in one database and of one engine.</summary>
    public static async Task<DirectWay?> FindAsync(
        PostgresRelay relay, IBroker broker, CancellationToken cancellationToken)
    {
        if (broker.Services.Database is not PostgresBroker known) return null;
        var there = await known.Server.IdentityAsync(cancellationToken).ConfigureAwait(false);
        return there == await relay.Server.IdentityAsync(cancellationToken).ConfigureAwait(false)
            ? new DirectWay(relay, known) : null;
    }

    public async Task<IReadOnlyDictionary<string, int>> MoveAsync(
        long term, int limit, CancellationToken cancellationToken)
    {
        if (mayNot) return None;
        var (types, queues, last) = (None, Array.Empty<int>(), (long?)null);
        var reading = relay.Begin();
        try
        {
            // A crash of the server that undoes it undoes both sides of it.
            await relay.RunAwakeAsync(
                "move events inside",
                trip => reading.Add(trip, t => relay.AddFollowers(t, term, reading.From, limit).Add(
                    move, Read, Parameter.Of(term), Parameter.Of(limit), relay.Server.Now, Parameter.Of(reading.From))),
                PostgresBroker.PublishLimit, cancellationToken).ConfigureAwait(false);
        }
        catch (CourierException e)
            when (e.InnerException is PostgresException { SqlState: PostgresErrorCodes.InsufficientPrivilege })
        {
            // The store's role may not write into queues; the broker's may.
            mayNot = true;
        }
        catch (CourierException e) when (e.IsAboutContent)
        {
            // One that cannot be taken: the usual way finds out which.
            return None;
        }
        FaultPoint.Pass(FaultPoint.CommittedNotConfirmed);
        if (types.Count == 0) return None;
        var moved = types.Values.Sum();
        reading.End(last, moved == limit);
        relay.EventsGone(moved);
        broker.Announced(queues);
        return types;

        void Read(NpgsqlDataReader row)
        {
            if (row.IsDBNull(0)) return;
            (last, queues) = (row.GetInt64(0), row.GetFieldValue<int[]>(1));
            types = row.GetFieldValue<string[]>(3).Zip(row.GetFieldValue<int[]>(4))
                .ToDictionary(t => t.First, t => t.Second, StringComparer.Ordinal);
        }
    }

    private static string Counted(string schema) =>
        BrokerStatements.CountCopies(schema, "SELECT queue, count(*) FROM copies GROUP BY queue");
}
