using System.Data.Common;
using GentleCourier;

namespace FerryLine.Shared;

/// <summary>What each service of the example does before it starts; a real one would run its migrations.</summary>
internal static class Tables
{
    /// <summary>Makes the outbox and inbox, and beside them the service's own tables.</summary>
    public static async Task CreateTablesAsync(this IStore store, string sql)
    {
        await store.PrepareAsync(create: true);
        await using var connection = await store.OpenConnectionAsync();
        await using var command = connection.CreateCommand();
        command.CommandText = sql;
        try
        {
            await command.ExecuteNonQueryAsync();
        }
        catch (DbException)
        {
            // Another instance may have made them at the same moment; then there is nothing left to do.
            await command.ExecuteNonQueryAsync();
        }
    }
}
