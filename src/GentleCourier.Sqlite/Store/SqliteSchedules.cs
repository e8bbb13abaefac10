using System.Data.Common;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>The schedules that a store's file keeps. Times are Unix milliseconds.</summary>
internal sealed class SqliteSchedules(SqliteStore store) : ISchedulePort
{
    private static readonly TimeSpan ForgottenAfter = TimeSpan.FromDays(30);

    public Task<ScheduleRows> ReadAsync(
        bool dueOnly, DbTransaction? transaction, CancellationToken cancellationToken) => transaction is null
        ? store.ReadAsync(connection => Read(connection, dueOnly), cancellationToken)
        : store.InServiceAsync(
            transaction, "read the schedules of", (service, _) => Read(service.Connection, dueOnly), cancellationToken);

    public Task<bool> SaveAsync(ScheduleRow row, IReadOnlyList<EncodedEvent> events, DbTransaction? transaction,
        CancellationToken cancellationToken) => transaction is null
        ? store.TakeTurnAsync(
            statements => statements.InTransaction(connection =>
            {
                if (!Write(connection, row)) return false;
                foreach (var @event in events) statements.AddAnew(@event, store.Now);
                return true;
            }),
            cancellationToken)
        : store.InServiceAsync(
            transaction, "write a schedule of",
            (service, now) =>
            {
                if (!Write(service.Connection, row)) return false;
                foreach (var @event in events) service.AddToOutbox(@event, now);
                return true;
            },
            cancellationToken);

    public Task<bool> RemoveAsync(
        ScheduleRow row, DbTransaction? transaction, CancellationToken cancellationToken) => transaction is null
        ? store.TakeTurnAsync(
            statements => statements.InTransaction(connection => Remove(connection, row)), cancellationToken)
        : store.InServiceAsync(
            transaction, "remove a schedule of", (service, _) => Remove(service.Connection, row), cancellationToken);

    public Task<IReadOnlyList<SeenDeclaration>> ReadDeclarationsAsync(CancellationToken cancellationToken) =>
        store.ReadAsync<IReadOnlyList<SeenDeclaration>>(
            connection =>
            {
                using var statement = new Statement(
                    connection, "SELECT name, declaration, seen FROM courier_declaration ORDER BY name, seen");
                var seen = new List<SeenDeclaration>();
                while (statement.Step())
                {
                    var age = Math.Max(0, store.Now - statement.Int64(2));
                    seen.Add(new(statement.Text(0)!, statement.Text(1)!, TimeSpan.FromMilliseconds(age)));
                }
                return seen;
            },
            cancellationToken);

    public Task MarkAsync(
        IReadOnlyList<(string Name, string Declaration)> declarations, CancellationToken cancellationToken) =>
        store.TakeTurnAsync(
            statements => statements.InTransaction(connection =>
            {
                using var forget = new Statement(connection, "DELETE FROM courier_declaration WHERE seen < ?");
                forget.Bind(1, store.Now - (long)ForgottenAfter.TotalMilliseconds).Run();
                using var mark = new Statement(connection, """
                    INSERT OR REPLACE INTO courier_declaration (name, declaration, seen) VALUES (?, ?, ?)
                    """);
                foreach (var (name, declaration) in declarations)
                    mark.Bind(1, name).Bind(2, declaration).Bind(3, store.Now).Run();
                return true;
            }),
            cancellationToken);

    private ScheduleRows Read(SqliteConnection connection, bool dueOnly)
    {
        using var statement = new Statement(connection, """
            SELECT name, version, type, template, rule, declared_rule, declaration, next, due, fired, paused, changed
            FROM courier_schedule WHERE ?1 IS NULL OR due <= ?1 ORDER BY name
            """);
        var now = store.Now;
        statement.Bind(1, dueOnly ? now : null);
        var rows = new List<ScheduleRow>();
        while (statement.Step())
        {
            rows.Add(new ScheduleRow(statement.Text(0)!, statement.Int64(1))
            {
                Type = statement.Text(2)!,
                Template = statement.Blob(3),
                Rule = statement.Text(4)!,
                DeclaredRule = statement.Text(5)!,
                Declaration = statement.Text(6)!,
                Next = Time(statement, 7),
                Due = Time(statement, 8),
                Fired = Time(statement, 9),
                Paused = Time(statement, 10),
                Changed = Time(statement, 11),
            });
        }
        return new ScheduleRows(rows, DateTimeOffset.FromUnixTimeMilliseconds(now));
    }

    private static bool Remove(SqliteConnection connection, ScheduleRow row)
    {
        using var remove = new Statement(connection, "DELETE FROM courier_schedule WHERE name = ? AND version = ?");
        return remove.Bind(1, row.Name).Bind(2, row.Version).Run() == 1;
    }

    private static bool Write(SqliteConnection connection, ScheduleRow row)
    {
        using var write = new Statement(connection, row.Version == 0
            ? """
              INSERT INTO courier_schedule (name, version, type, template, rule, declared_rule, declaration, next, due,
                  fired, paused, changed)
              VALUES (?1, ?2 + 1, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12) ON CONFLICT DO NOTHING
              """
            : """
              UPDATE courier_schedule SET version = ?2 + 1, type = ?3, template = ?4, rule = ?5, declared_rule = ?6,
                  declaration = ?7, next = ?8, due = ?9, fired = ?10, paused = ?11, changed = ?12
              WHERE name = ?1 AND version = ?2
              """);
        return write.Bind(1, row.Name).Bind(2, row.Version).Bind(3, row.Type).Bind(4, row.Template.Span)
            .Bind(5, row.Rule).Bind(6, row.DeclaredRule).Bind(7, row.Declaration).Bind(8, Milliseconds(row.Next))
            .Bind(9, Milliseconds(row.Due)).Bind(10, Milliseconds(row.Fired)).Bind(11, Milliseconds(row.Paused))
            .Bind(12, Milliseconds(row.Changed)).Run() == 1;
    }

    private static DateTimeOffset? Time(Statement statement, int column) =>
        statement.NullableInt64(column) is { } time ? DateTimeOffset.FromUnixTimeMilliseconds(time) : null;

    private static long? Milliseconds(DateTimeOffset? time) => time?.ToUnixTimeMilliseconds();
}
