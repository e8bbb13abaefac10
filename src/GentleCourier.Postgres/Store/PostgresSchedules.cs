using System.Data.Common;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>The schedules that a store's database keeps.</summary>
internal sealed class PostgresSchedules(PostgresStore store, PostgresLater later) : ISchedulePort
{
    private const string Columns =
        "type, template, rule, declared_rule, declaration, next, due, fired, paused, changed";

    private readonly PostgresServer server = store.Server;

    private readonly string read = store.Server.Sql($"""
        SELECT name, version, {Columns}, t.now
        FROM (SELECT coalesce($1, clock_timestamp()) AS now) t LEFT JOIN courier.schedule s ON NOT $2 OR s.due <= t.now
        ORDER BY name
        """);

    private readonly string insert = store.Server.Sql(WithEvents($"""
        INSERT INTO courier.schedule (name, version, {Columns})
        VALUES ($2, $3 + 1, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) ON CONFLICT DO NOTHING RETURNING 1
        """));

    private readonly string update = store.Server.Sql(WithEvents($"""
        UPDATE courier.schedule SET version = version + 1, ({Columns}) = ($4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
        WHERE name = $2 AND version = $3 RETURNING 1
        """));

    private readonly string remove = store.Server.Sql("""
        WITH gone AS (DELETE FROM courier.schedule WHERE name = $1 AND version = $2 RETURNING 1)
        SELECT count(*) FROM gone
        """);

    private readonly string readDeclarations = store.Server.Sql("""
        SELECT name, declaration, greatest(coalesce($1, clock_timestamp()) - seen, interval '0')
        FROM courier.declaration ORDER BY name, seen
        """);

    private readonly string forgetDeclarations = store.Server.Sql(
        "DELETE FROM courier.declaration WHERE seen < coalesce($1, clock_timestamp()) - interval '30 days'");

    private readonly string mark = store.Server.Sql("""
        INSERT INTO courier.declaration (name, declaration, seen)
        SELECT name, declaration, coalesce($1, clock_timestamp()) FROM unnest($2, $3) AS d (name, declaration)
            ORDER BY name
        ON CONFLICT (name, declaration) DO UPDATE SET seen = excluded.seen
        """);

    public async Task<ScheduleRows> ReadAsync(
        bool dueOnly, DbTransaction? transaction, CancellationToken cancellationToken)
    {
        var (rows, now) = (new List<ScheduleRow>(), default(DateTimeOffset));
        await RunAsync(
            transaction, "read the schedules of", new RoundTrip().Add(read, Read, server.Now, Parameter.Of(dueOnly)),
            cancellationToken).ConfigureAwait(false);
        return new ScheduleRows(rows, now);

        void Read(NpgsqlDataReader row)
        {
            now = row.Time(12);
            if (row.Text(0) is not { } name) return;
            rows.Add(new ScheduleRow(name, row.GetInt64(1))
            {
                Type = row.GetString(2),
                Template = row.Bytes(3),
                Rule = row.GetString(4),
                DeclaredRule = row.GetString(5),
                Declaration = row.GetString(6),
                Next = Time(row, 7),
                Due = Time(row, 8),
                Fired = Time(row, 9),
                Paused = Time(row, 10),
                Changed = Time(row, 11),
            });
        }
    }

    public async Task<bool> SaveAsync(ScheduleRow row, IReadOnlyList<EncodedEvent> events, DbTransaction? transaction,
        CancellationToken cancellationToken)
    {
        var saved = false;
        var trip = new RoundTrip().Add(
            row.Version == 0 ? insert : update, found => saved = found.GetInt64(0) == 1,
            server.Now, Parameter.Of(row.Name), Parameter.Of(row.Version), Parameter.Of(row.Type),
            Parameter.Of(row.Template), Parameter.Of(row.Rule), Parameter.Of(row.DeclaredRule),
            Parameter.Of(row.Declaration), Of(row.Next), Of(row.Due), Of(row.Fired), Of(row.Paused), Of(row.Changed),
            Texts(e => e.Id), Texts(e => e.Type), Texts(e => e.PartitionKey),
            Parameter.Of([.. events.Select(e => e.Json)]));
        if (row.Due is { } due && later.IsSoon(Due.At(due))) later.AddNews(trip);
        if (events.Count > 0 && transaction is not null) store.AddWake(trip);
        await RunAsync(transaction, "write a schedule of", trip, cancellationToken).ConfigureAwait(false);
        if (events.Count > 0 && transaction is null) store.WakeRelay();
        return saved;

        NpgsqlParameter Texts(Func<EncodedEvent, string?> text) => Parameter.Of([.. events.Select(text)]);
    }

    public async Task<bool> RemoveAsync(
        ScheduleRow row, DbTransaction? transaction, CancellationToken cancellationToken)
    {
        var removed = false;
        await RunAsync(
            transaction, "remove a schedule of",
            new RoundTrip().Add(remove, found => removed = found.GetInt64(0) == 1, Parameter.Of(row.Name),
                Parameter.Of(row.Version)),
            cancellationToken).ConfigureAwait(false);
        return removed;
    }

    public async Task<IReadOnlyList<SeenDeclaration>> ReadDeclarationsAsync(CancellationToken cancellationToken)
    {
        var seen = new List<SeenDeclaration>();
        await server.RunAsync(
            "read the declarations of schedules in",
            new RoundTrip().Add(
                readDeclarations, row => seen.Add(new(row.GetString(0), row.GetString(1), row.GetTimeSpan(2))),
                server.Now),
            cancellationToken).ConfigureAwait(false);
        return seen;
    }

    public Task MarkAsync(
        IReadOnlyList<(string Name, string Declaration)> declarations, CancellationToken cancellationToken) =>
        server.RunAsync(
            "declare schedules in",
            new RoundTrip().NeedNotSurvive().Add(forgetDeclarations, server.Now).Add(
                mark, server.Now, Parameter.Of([.. declarations.Select(d => (string?)d.Name)]),
                Parameter.Of([.. declarations.Select(d => (string?)d.Declaration)])),
            cancellationToken);

    private Task RunAsync(
        DbTransaction? transaction, string tried, RoundTrip trip, CancellationToken cancellationToken) =>
        transaction is null ? server.RunAsync(tried, trip, cancellationToken)
            : store.RunInServiceAsync(transaction, trip, tried, cancellationToken);

    /// <summary>Events leave only where the row was written.</summary>
    private static string WithEvents(string write) => $"""
        WITH saved AS ({write}),
        added AS (
            INSERT INTO courier.outbox (event_id, type, partition_key, added, event)
            SELECT event_id, type, partition_key, coalesce($1, clock_timestamp()), event
            FROM unnest($14, $15, $16, $17) WITH ORDINALITY AS e (event_id, type, partition_key, event, place)
            WHERE EXISTS (SELECT FROM saved) ORDER BY place)
        SELECT count(*) FROM saved
        """;

    private static NpgsqlParameter Of(DateTimeOffset? time) => Parameter.Of(time?.UtcDateTime);

    private static DateTimeOffset? Time(NpgsqlDataReader row, int column) =>
        row.IsDBNull(column) ? null : row.Time(column);
}
