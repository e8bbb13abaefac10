using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Npgsql;
using NpgsqlTypes;

namespace GentleCourier.Bench.Postgres;

/// <summary>
/// A business transaction that publishes one event, with eight clients: its rate, against that of the same with a plain
/// insert of the same bytes, or with nothing at all.
/// </summary>
internal sealed class PostgresOutbox(bool smallest, bool plain = true) : IBenchmark
{
    private const int Clients = 8;

    public string Name => (smallest ? "pg-outbox-min" : "pg-outbox") + (plain ? "" : "-none");

    public string What => (smallest
        ? "PostgreSQL: a transaction of one insert that publishes one event, "
        : "PostgreSQL: a transaction that looks, updates and inserts, and publishes one event, ")
        + (plain ? "against the same with a plain insert of the same bytes; 8 clients"
            : "against the same without; 8 clients");

    public int Events => 16_000;

    public Task<double> OursAsync(Workshop workshop) => RunAsync(publishes: true);

    public Task<double> BareAsync(Workshop workshop) => RunAsync(publishes: false);

    private async Task<double> RunAsync(bool publishes)
    {
        await using var workshop = new ServerWorkshop();
        var address = ServerWorkshop.AddressOfNew("outbox");
        var host = workshop.Host(
            address, ServerWorkshop.Address("broker"), _ => { }, new() { ["Courier:Relay:Enabled"] = "false" });
        await host.StartAsync();
        var (store, outbox) = (
            host.Services.GetRequiredService<IStorePort>(), host.Services.GetRequiredService<IOutbox>());
        await using (var connection = ServerWorkshop.Open("outbox"))
        {
            ServerWorkshop.Execute(connection, """
                CREATE TABLE tap (number bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, pier text, card text,
                    sailing text);
                CREATE INDEX by_card ON tap (card);
                CREATE TABLE deck (sailing text PRIMARY KEY, on_board int);
                CREATE TABLE event (number bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, type text NOT NULL,
                    json bytea NOT NULL)
                """);
        }
        return await ServerWorkshop.RateAsync(Events, Clients, ClientAsync);

        async Task ClientAsync(int client, Action ready)
        {
            await using var connection = (NpgsqlConnection)await store.OpenConnectionAsync();
            await using var look = ServerWorkshop.Prepare(
                connection, "SELECT count(*) FROM tap WHERE card = $1", NpgsqlDbType.Text);
            await using var insert = ServerWorkshop.Prepare(
                connection, "INSERT INTO tap (pier, card, sailing) VALUES ($1, $2, $3)", NpgsqlDbType.Text,
                NpgsqlDbType.Text, NpgsqlDbType.Text);
            await using var update = ServerWorkshop.Prepare(
                connection,
                    "INSERT INTO deck VALUES ($1, 1) ON CONFLICT (sailing) DO UPDATE SET on_board = deck.on_board + 1",
                    NpgsqlDbType.Text);
            await using var byHand = ServerWorkshop.Prepare(
                connection, "INSERT INTO event (type, json) VALUES ($1, $2)", NpgsqlDbType.Text, NpgsqlDbType.Bytea);
            for (var i = -50; i < Events / Clients; i++)
            {
                if (i == 0) ready();
                var tap = Workshop.Tap((i + 50) * Clients + client);
                await using var transaction = await connection.BeginTransactionAsync();
                if (!smallest)
                {
                    await ServerWorkshop.With(look, tap.Card).ExecuteScalarAsync();
                    await ServerWorkshop.With(update, $"{tap.Sailing}-{client}").ExecuteNonQueryAsync();
                }
                await ServerWorkshop.With(insert, tap.Pier, tap.Card, tap.Sailing).ExecuteNonQueryAsync();
                if (publishes)
                {
                    await outbox.AddAndCommitAsync(transaction, tap);
                    continue;
                }
                if (plain)
                    await ServerWorkshop.With(byHand, "bench.tap", Workshop.Json(tap.Number)).ExecuteNonQueryAsync();
                await transaction.CommitAsync();
            }
        }
    }
}
