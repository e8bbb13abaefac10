using System.Data.Common;
using GentleCourier;

namespace FerryLine.Shared;

/// <summary>What each service of the example does when it starts; a real one would run its migrations.</summary>
internal static class Tables
{
    /// <summary>Makes the service's own tables, beside outbox and inbox.</summary>
    public static CourierBuilder CreateTables(this CourierBuilder courier, string sql) =>
        courier.PrepareStore((store, cancel) => CreateAsync(store, sql, cancel));

    private static async Task CreateAsync(IStore store, string sql, CancellationToken cancel)
    {
        await using var connection = await store.OpenConnectionAsync(cancel);
        await using var command = connection.CreateCommand();
        command.CommandText = sql;
        try
        {
            await command.ExecuteNonQueryAsync(cancel);
        }
        catch (DbException)
        {
            // Another instance may have made them at the same moment; then there is nothing left to do.
            await command.ExecuteNonQueryAsync(cancel);
        }
    }
}
