using System.Data;
using System.Data.Common;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Bench.Postgres;

/// <summary>
/// The relay while somebody has forgotten a transaction that reads, so that millions of rows which have left the outbox
/// are still in its table, against the relay without.
/// </summary>
internal sealed class PostgresHeldSnapshot : IBenchmark
{
    private const int Dead = 5_000_000;

    public string Name => "pg-relay-held";

    public string What => $"PostgreSQL: the relay with a held snapshot and {Dead:N0} dead rows, against itself without";

    public int Events => 100_000;

    public async Task<double> OursAsync(Workshop workshop)
    {
        DbConnection? forgotten = null;
        DbTransaction? snapshot = null;
        try
        {
            return await PostgresRelay.RelayAsync(oneDatabase: false, Events, async host =>
            {
                var store = host.Services.GetRequiredService<IStorePort>();
                forgotten = await store.OpenConnectionAsync();
                snapshot = await forgotten.BeginTransactionAsync(IsolationLevel.RepeatableRead);
                await RunAsync(forgotten, "SELECT count(*) FROM courier.outbox");
                await using var connection = await store.OpenConnectionAsync();
                await RunAsync(
                    connection,
                    "INSERT INTO courier.outbox (event_id, type, event) "
                    + $"SELECT n::text, 'bench.tap', '' FROM generate_series(1, {Dead}) n");
                // As relays have left it that relayed them: they keep the place with the lead.
                await RunAsync(connection, "DELETE FROM courier.outbox; UPDATE courier.relay SET place = " + Dead);
            });
        }
        finally
        {
            if (snapshot is not null) await snapshot.DisposeAsync();
            if (forgotten is not null) await forgotten.DisposeAsync();
        }
    }

    public Task<double> BareAsync(Workshop workshop) =>
        PostgresRelay.RelayAsync(oneDatabase: false, Events, _ => Task.CompletedTask);

    private static async Task RunAsync(DbConnection connection, string sql)
    {
        await using var command = connection.CreateCommand();
        (command.CommandText, command.CommandTimeout) = (sql, 600);
        await command.ExecuteNonQueryAsync();
    }
}
