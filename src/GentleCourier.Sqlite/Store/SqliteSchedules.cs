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
                if (!ScheduleStatements.Write(connection, row)) return false;
                foreach (var @event in events) statements.AddAnew(@event, store.Now);
                return true;
            }),
            cancellationToken)
        : store.InServiceAsync(
            transaction, "write a schedule of",
            (service, now) =>
            {
                if (!ScheduleStatements.Write(service.Connection, row)) return false;
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
        var now = store.Now + ClockStatements.AheadOf(connection);
        var rows = !dueOnly ? ScheduleStatements.Read(connection)
            : ClockStatements.IsInDoubt(connection) ? [] : ScheduleStatements.Read(connection, now);
        return new ScheduleRows(rows, DateTimeOffset.FromUnixTimeMilliseconds(now));
    }

    private static bool Remove(SqliteConnection connection, ScheduleRow row)
    {
        using var remove = new Statement(connection, "DELETE FROM courier_schedule WHERE name = ? AND version = ?");
        return remove.Bind(1, row.Name).Bind(2, row.Version).Run() == 1;
    }
}
