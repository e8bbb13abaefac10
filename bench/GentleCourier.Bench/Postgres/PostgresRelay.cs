using System.Diagnostics;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using NpgsqlTypes;

namespace GentleCourier.Bench.Postgres;

/// <summary>
/// The relay, against a loop that copies a batch into the other database and then deletes it from the first; or, where
/// both are in one, that moves a batch by a statement.
/// </summary>
internal sealed class PostgresRelay(bool oneDatabase) : IBenchmark
{
    public string Name => oneDatabase ? "pg-relay-one" : "pg-relay";

    public string What => "PostgreSQL: outbox to broker in batches of 500, "
        + (oneDatabase ? "in one database, against a bare delete that inserts what it returns"
            : "against a bare copy and delete");

    public int Events => 100_000;

    public Task<double> OursAsync(Workshop workshop) => RelayAsync(oneDatabase, Events, _ => Task.CompletedTask);

    /// <summary>The relay's rate, in databases of its own that something may have happened to before.</summary>
    public static async Task<double> RelayAsync(bool oneDatabase, int events, Func<IHost, Task> before)
    {
        await using var server = new ServerWorkshop();
        var target = ServerWorkshop.AddressOfNew("target");
        var harbour = oneDatabase ? $"{target}?schema=harbour" : ServerWorkshop.AddressOfNew("harbour");
        var broker = await server.BrokerAsync(target);
        var host = server.Host(harbour, target, _ => { });
        var store = host.Services.GetRequiredService<IStorePort>();
        await store.PrepareAsync(create: true);
        await before(host);
        var outbox = host.Services.GetRequiredService<IOutbox>();
        await using (var connection = await store.OpenConnectionAsync())
        {
            foreach (var chunk in Enumerable.Range(0, events).Chunk(10_000))
            {
                await using var transaction = await connection.BeginTransactionAsync();
                await outbox.AddManyAndCommitAsync(transaction, chunk.Select(i => EventDraft.Of(Workshop.Tap(i))));
            }
        }

        var began = Stopwatch.GetTimestamp();
        await host.StartAsync();
        while ((await broker.Reports!.ReadFiguresAsync()).Queues.Single().Ready < events) await Task.Delay(5);
        return Workshop.Rate(events, began);
    }

    public async Task<double> BareAsync(Workshop workshop)
    {
        ServerWorkshop.AddressOfNew("bare_harbour");
        ServerWorkshop.AddressOfNew("bare_target");
        await using var store = ServerWorkshop.Open(
            oneDatabase ? "bare_target" : "bare_harbour",
            "CREATE TABLE outbox (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, type text NOT NULL, event bytea "
            + "NOT NULL)");
        await using var broker = ServerWorkshop.Open("bare_target", ServerWorkshop.BareQueue);
        await using (
            var add = ServerWorkshop.Prepare(
            store, "INSERT INTO outbox (type, event) SELECT 'bench.tap', e FROM unnest($1) e",
            NpgsqlDbType.Array | NpgsqlDbType.Bytea))
            foreach (var chunk in Enumerable.Range(0, Events).Chunk(10_000))
                await ServerWorkshop.With(add, (object)Array.ConvertAll(chunk, Workshop.Json)).ExecuteNonQueryAsync();

        await using var read = ServerWorkshop.Prepare(store, "SELECT id, event FROM outbox ORDER BY id LIMIT 500");
        await using var insert = ServerWorkshop.Prepare(
            broker, "INSERT INTO queue (event) SELECT e FROM unnest($1) e", NpgsqlDbType.Array | NpgsqlDbType.Bytea);
        await using var delete = ServerWorkshop.Prepare(
            store, "DELETE FROM outbox WHERE id = ANY ($1)", NpgsqlDbType.Array | NpgsqlDbType.Bigint);
        var began = Stopwatch.GetTimestamp();
        if (oneDatabase)
        {
            await using var move = ServerWorkshop.Prepare(
                store,
                "WITH gone AS (DELETE FROM outbox WHERE id = ANY (ARRAY (SELECT id FROM outbox ORDER BY id LIMIT 500)) "
                + "RETURNING id, event) INSERT INTO queue (event) SELECT event FROM gone ORDER BY id");
            while (await move.ExecuteNonQueryAsync() > 0)
            {
            }
        }
        while (await ServerWorkshop.ReadAsync(read) is { Count: > 0 } rows)
        {
            await ServerWorkshop.With(insert, (object)rows.Select(r => r.Event).ToArray()).ExecuteNonQueryAsync();
            await ServerWorkshop.With(delete, (object)rows.Select(r => r.Id).ToArray()).ExecuteNonQueryAsync();
        }
        return Workshop.Rate(Events, began);
    }
}
