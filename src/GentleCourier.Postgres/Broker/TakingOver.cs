using System.Globalization;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>How a broker takes events over from another one. Those who do so take turns, a queue each.</summary>
internal sealed class TakingOver(PostgresServer server)
{
    private readonly string turn = server.Sql(
        "SELECT pg_advisory_xact_lock(hashtext('courier.take-over'), $1)");

    // Its partition key counts for nothing here. One that nobody has tried yet, as far as is known, may be a dead
    // letter by now; one that has failed is at work.
    private readonly string comeAgain = server.Sql($"""
        WITH missing AS (
            SELECT * FROM unnest($3, $4, $5, $6, $7, $8, $9, $10) WITH ORDINALITY
                AS e (identity, event, attempts, tried_for, error, delay, counts, uncounted, place)
            WHERE NOT EXISTS (SELECT FROM courier.copy c WHERE c.queue = $2 AND c.identity = e.identity)
                AND NOT EXISTS (SELECT FROM courier.later l WHERE l.queue = $2 AND l.identity = e.identity)
                AND (error IS NOT NULL OR NOT EXISTS (
                    SELECT FROM courier.dead_letter d WHERE d.queue = $2 AND d.identity = e.identity))),
        ready AS (
            INSERT INTO courier.copy (queue, arrived, attempts, uncounted, first_attempt, error, event, identity)
            SELECT $2, coalesce($1, now()), attempts, uncounted, coalesce($1, now()) - tried_for, error, event, identity
            FROM missing WHERE delay = '0' ORDER BY place),
        delayed AS (
            INSERT INTO courier.later
                (queue, due, id, arrived, attempts, uncounted, first_attempt, error, event, identity)
            SELECT $2, coalesce($1, now()) + delay, nextval(pg_get_serial_sequence('courier.copy', 'id')),
                coalesce($1, now()), attempts, uncounted, coalesce($1, now()) - coalesce(tried_for, '0'), error, event,
                identity
            FROM missing WHERE delay > '0'),
        counted AS ({BrokerStatements.CountTakenOver(server.SchemaName, """
            SELECT $2, count(*), count(*) FILTER (WHERE delay > '0'), coalesce(sum(counts), 0), 0 FROM missing
            HAVING count(*) > 0
            """)})
        SELECT FROM missing LIMIT 0
        """);

    private readonly string setAside = server.Sql($"""
        WITH kept AS (
            INSERT INTO courier.dead_letter (queue, reason, exception, message, stack, attempts, worker, arrived,
                first_attempt, set_aside, event, identity)
            SELECT $2, $4, $5, $6, $7, $8, $9, coalesce($1, now()) - $10, coalesce($1, now()) - $10,
                coalesce($1, now()), $11, $3
            ON CONFLICT DO NOTHING RETURNING id),
        counted AS ({BrokerStatements.CountTakenOver(
            server.SchemaName, "SELECT $2, 0, 0, 0, count(*) FROM kept HAVING count(*) > 0")})
        SELECT id FROM kept
        """);

    /// <returns>For each the dead letter that it has become, if it is one and was none.</returns>
    public async Task<string?[]> RunAsync(
        int queue, string worker, IReadOnlyList<TakenOver> events, CancellationToken cancellationToken)
    {
        var letters = new string?[events.Count];
        // Each once: what is known of one is known of its copies.
        var places = events.Select((_, i) => i).DistinctBy(i => events[i].Identity).ToList();
        var trip = new RoundTrip().Add(turn, static _ => { }, Parameter.Of(queue));
        if (places.FindAll(i => events[i].Rejected is null) is { Count: > 0 } again)
            AddComingAgain(trip, queue, again.ConvertAll(i => events[i]));
        foreach (var i in places.FindAll(i => events[i].Rejected is not null))
            AddSettingAside(trip, queue, worker, events[i], letter => letters[i] = letter);
        FaultPoint.Pass(FaultPoint.WrittenNotCommitted);
        await server.RunAsync("take events over into", trip, cancellationToken).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.CommittedNotConfirmed);
        return letters;
    }

    private void AddComingAgain(RoundTrip trip, int queue, List<TakenOver> again) => trip.Add(
        comeAgain, static _ => { }, server.Now, Parameter.Of(queue),
        Parameter.Of([.. again.Select(e => (string?)e.Identity)]), Parameter.Of([.. again.Select(e => e.Json)]),
        Parameter.Of([.. again.Select(e => e.Attempts)]), Parameter.Of([.. again.Select(e => e.TriedFor)]),
        Parameter.Plain([.. again.Select(e => e.Again?.Error)]),
        Parameter.Of([.. again.Select(e => (TimeSpan?)(e.Again?.Delay ?? TimeSpan.Zero))]),
        Parameter.Of([.. again.Select(e => e.Again?.Counts == true ? 1 : 0)]),
        Parameter.Of([.. again.Select(e => e.Uncounted)]));

    private void AddSettingAside(
        RoundTrip trip, int queue, string worker, TakenOver taken, Action<string> letter)
    {
        var (rejected, failure) = (taken.Rejected!, taken.Rejected!.Failure);
        trip.Add(
            setAside, row => letter(TextOf(row)), server.Now, Parameter.Of(queue), Parameter.Of(taken.Identity),
            Parameter.Plain(rejected.Reason), Parameter.Plain(failure?.Exception), Parameter.Plain(failure?.Message),
            Parameter.Plain(failure?.Stack), Parameter.Of(taken.Attempts), Parameter.Of(worker),
            Parameter.Of((TimeSpan?)(taken.TriedFor ?? TimeSpan.Zero)), Parameter.Of(taken.Json));
    }

    private static string TextOf(NpgsqlDataReader row) =>
        row.GetInt64(row.FieldCount - 1).ToString(CultureInfo.InvariantCulture);
}
