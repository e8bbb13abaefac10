using System.Data.Common;
using Microsoft.Data.Sqlite;
using Npgsql;

namespace GentleCourier.Bench.Budgets;

/// <summary>The two services' own tables, the same for both halves and on both databases.</summary>
internal static class Tables
{
    public const string Charge = "CREATE TABLE charge (number bigint PRIMARY KEY, card text)",
        InsertTap = "INSERT INTO tap (pier, card, sailing) VALUES ($1, $2, $3)",
        InsertCharge = "INSERT INTO charge (number, card) VALUES ($1, $2)";

    public static string Tap(string address) =>
        $"CREATE TABLE tap (number {Number(address)}, pier text, card text, sailing text)";

    /// <summary>A key that counts by itself.</summary>
    public static string Number(string address) => address.StartsWith("sqlite", StringComparison.Ordinal)
        ? "INTEGER PRIMARY KEY" : "bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY";

    /// <summary>A command with parameters $1, $2 and so on.</summary>
    public static DbCommand Prepare(DbConnection connection, string sql, int parameters)
    {
        var command = connection.CreateCommand();
        command.CommandText = sql;
        for (var i = 1; i <= parameters; i++)
            command.Parameters.Add(connection is SqliteConnection ? new SqliteParameter($"${i}", null)
                : new NpgsqlParameter());
        return command;
    }

    public static Task<int> RunAsync(DbCommand command, params object?[] values)
    {
        for (var i = 0; i < values.Length; i++) command.Parameters[i].Value = values[i] ?? DBNull.Value;
        return command.ExecuteNonQueryAsync();
    }
}
