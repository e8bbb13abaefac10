using System.Diagnostics;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace GentleCourier.Sqlite;

/// <summary>Makes and checks the tables of a store or a broker.</summary>
internal sealed class Schema(bool sharesItsFile, SchemaHistory history)
{
    private const string Versions =
        "CREATE TABLE IF NOT EXISTS courier_schema (part TEXT PRIMARY KEY, version INTEGER NOT NULL, "
        + "oldest INTEGER NOT NULL, release TEXT NOT NULL) WITHOUT ROWID;";

    private readonly string record =
        $"INSERT OR REPLACE INTO courier_schema VALUES ('{history.Part}', {history.Latest.Version}, "
        + $"{history.Latest.Oldest}, '{history.Latest.Release}');";

    /// <summary>All of it, for a person to read or a migration tool to run on an empty database.</summary>
    public string Sql => $"PRAGMA journal_mode = WAL;\n\n{Versions}\n{record}\n\n{history.Sql}\n";

    /// <summary>Checks that the tables are there, in a version that this program may use.</summary>
    /// <exception cref="CourierException">They are not; the message says what to do.</exception>
    public void Check(SqliteConnection connection, SqliteFile file) => history.Check(
        Find(connection), file.DisplayName, $"a SQLite database without a {history.Part} of Gentle Courier");

    /// <summary>Makes or upgrades the tables; nothing happens where they can be used as they are.</summary>
    public void Apply(SqliteConnection connection, SqliteFile file)
    {
        if (history.Missing(Find(connection), file.DisplayName).Count == 0) return;
        RefuseForeign(connection, file);
        UseWal(connection);
        SqliteFile.Execute(connection, "BEGIN IMMEDIATE");
        try
        {
            SqliteFile.Execute(connection, Versions);
            // Another process may have done it while this one waited for the lock, and be a newer one.
            if (history.Missing(Find(connection), file.DisplayName) is { Count: > 0 } missing)
            {
                foreach (var step in missing) SqliteFile.Execute(connection, step);
                SqliteFile.Execute(connection, record);
            }
            FaultPoint.Pass(FaultPoint.SchemaNotCommitted);
            SqliteFile.Execute(connection, "COMMIT");
        }
        catch
        {
            raw.sqlite3_exec(connection.Handle, "ROLLBACK");
            throw;
        }
    }

    /// <summary>
    /// Where several do it to a new file at once, SQLite refuses one of them without any patience.
    /// </summary>
    private static void UseWal(SqliteConnection connection)
    {
        for (var began = Stopwatch.GetTimestamp(); ;)
        {
            try
            {
                SqliteFile.Execute(connection, "PRAGMA journal_mode = WAL");
                return;
            }
            catch (SqliteException e) when (SqliteFile.IsLocked(e)
                && Stopwatch.GetElapsedTime(began) < SqliteFile.BusyLimit)
            {
                Thread.Sleep(Random.Shared.Next(5, 20));
            }
        }
    }

    private FoundSchema Find(SqliteConnection connection)
    {
        var none = new FoundSchema(0, 0, "");
        using var exists = Statement.On(
            connection, "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = 'courier_schema'");
        if (exists.Scalar() == 0) return none;
        using var read = Statement.On(
            connection, "SELECT version, oldest, release FROM courier_schema WHERE part = ?");
        read.Bind(1, history.Part);
        if (!read.Step()) return none;
        var found = new FoundSchema((int)read.Int64(0), (int)read.Int64(1), read.Text(2)!);
        read.Reset();
        return found;
    }

    private void RefuseForeign(SqliteConnection connection, SqliteFile file)
    {
        if (sharesItsFile) return;
        using var foreign = Statement.On(connection, """
            SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'
            AND NOT EXISTS (SELECT 1 FROM sqlite_schema WHERE name = 'courier_schema') LIMIT 1
            """);
        if (!foreign.Step()) return;
        var table = foreign.Text(0);
        foreign.Reset();
        throw new CourierException(
            $"{file.DisplayName} belongs to another application (it has a table '{table}'); give the {history.Part} a "
            + "file of its own");
    }
}
