using System.Diagnostics;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Npgsql;
using NpgsqlTypes;

namespace GentleCourier.Bench.Postgres;

/// <summary>
/// From the business transaction of one service to the committed effect in another, both running at once; against the
/// same writes one after another: publish in a transaction each, copy, lease, handle in a transaction each, delete.
/// </summary>
internal sealed class PostgresJourney : IBenchmark
{
    private const string Taps =
        "CREATE TABLE tap (number bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, pier text, card text, sailing text)";
    private const string Charges = "CREATE TABLE charge (number bigint PRIMARY KEY, card text)";

    public string Name => "pg-journey";

    public string What =>
        "PostgreSQL: commit to committed effect with outbox and inbox, against the bare sum of its writes";

    public int Events => 1_000;

    public async Task<double> OursAsync(Workshop workshop)
    {
        await using var server = new ServerWorkshop();
        var (harbour, fares, queues) = (ServerWorkshop.AddressOfNew("harbour"), ServerWorkshop.AddressOfNew("fares"),
            ServerWorkshop.AddressOfNew("target"));
        var broker = await server.BrokerAsync(queues);
        await using (ServerWorkshop.Open("harbour", Taps))
        await using (ServerWorkshop.Open("fares", Charges))
        {
        }
        var publisher = server.Host(harbour, queues, _ => { });
        var receiver = server.Host(
            fares, queues,
            courier => courier.Receive("taps", queue =>
            {
                queue.Options.Prefetch = ReceiveRate.Prefetch;
                queue.Handle<Tap, ServerChargingReceiver>();
            }),
            new() { ["Courier:Relay:Enabled"] = "false" });
        await publisher.StartAsync();
        await receiver.StartAsync();
        var (store, outbox) = (
            publisher.Services.GetRequiredService<IStorePort>(), publisher.Services.GetRequiredService<IOutbox>());
        await using var connection = (NpgsqlConnection)await store.OpenConnectionAsync();
        await using var insert = ServerWorkshop.Prepare(
            connection, "INSERT INTO tap (pier, card, sailing) VALUES ($1, $2, $3)", NpgsqlDbType.Text,
            NpgsqlDbType.Text, NpgsqlDbType.Text);
        var began = Stopwatch.GetTimestamp();
        for (var i = 0; i < Events; i++)
        {
            var tap = Workshop.Tap(i);
            await using var transaction = await connection.BeginTransactionAsync();
            await ServerWorkshop.With(insert, tap.Pier, tap.Card, tap.Sailing).ExecuteNonQueryAsync();
            await outbox.AddAndCommitAsync(transaction, tap);
        }
        while ((await store.ReadOutboxFiguresAsync()).Waiting > 0 || (
            await broker.Reports!.ReadFiguresAsync()).Queues[0] is not { Ready: 0, InHand: 0 }) await Task.Delay(20);
        return Workshop.Rate(Events, began);
    }

    public async Task<double> BareAsync(Workshop workshop)
    {
        foreach (var database in new[] { "bare_harbour", "bare_fares", "bare_target" })
            ServerWorkshop.AddressOfNew(database);
        await using var store = ServerWorkshop.Open(
            "bare_harbour",
            $"{Taps}; CREATE TABLE outbox (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, type text NOT NULL, "
            + "event bytea NOT NULL)");
        await using var broker = ServerWorkshop.Open("bare_target", ServerWorkshop.BareQueue);
        await using var fares = ServerWorkshop.Open(
            "bare_fares", $"{Charges}; CREATE TABLE inbox (id text PRIMARY KEY)");
        await using var insert = ServerWorkshop.Prepare(
            store, "INSERT INTO tap (pier, card, sailing) VALUES ($1, $2, $3)", NpgsqlDbType.Text, NpgsqlDbType.Text,
            NpgsqlDbType.Text);
        await using var publish = ServerWorkshop.Prepare(
            store, "INSERT INTO outbox (type, event) VALUES ('bench.tap', $1)", NpgsqlDbType.Bytea);
        await using var read = ServerWorkshop.Prepare(store, "SELECT id, event FROM outbox ORDER BY id LIMIT 500");
        await using var relayed = ServerWorkshop.Prepare(
            store, "DELETE FROM outbox WHERE id = ANY ($1)", NpgsqlDbType.Array | NpgsqlDbType.Bigint);
        await using var enqueue = ServerWorkshop.Prepare(
            broker, "INSERT INTO queue (event) SELECT e FROM unnest($1) e", NpgsqlDbType.Array | NpgsqlDbType.Bytea);
        await using var lease = ServerWorkshop.BareLease(broker, ReceiveRate.Prefetch);
        await using var delete = ServerWorkshop.BareDelete(broker);
        await using var inbox = ServerWorkshop.Prepare(fares, "INSERT INTO inbox (id) VALUES ($1)", NpgsqlDbType.Text);
        await using var charge = ServerWorkshop.Prepare(
            fares, "INSERT INTO charge (number, card) VALUES ($1, $2)", NpgsqlDbType.Bigint, NpgsqlDbType.Text);

        var began = Stopwatch.GetTimestamp();
        for (var i = 0; i < Events; i++)
        {
            var tap = Workshop.Tap(i);
            await using var transaction = await store.BeginTransactionAsync();
            await ServerWorkshop.With(insert, tap.Pier, tap.Card, tap.Sailing).ExecuteNonQueryAsync();
            await ServerWorkshop.With(publish, Workshop.Json(i)).ExecuteNonQueryAsync();
            await transaction.CommitAsync();
        }
        while (await ServerWorkshop.ReadAsync(read) is { Count: > 0 } rows)
        {
            await ServerWorkshop.With(enqueue, (object)rows.Select(r => r.Event).ToArray()).ExecuteNonQueryAsync();
            await ServerWorkshop.With(relayed, (object)rows.Select(r => r.Id).ToArray()).ExecuteNonQueryAsync();
        }
        for (var handled = 0L; await ServerWorkshop.ReadAsync(lease) is { Count: > 0 } rows;)
        {
            foreach (var row in rows)
            {
                await using var transaction = await fares.BeginTransactionAsync();
                await ServerWorkshop.With(inbox, $"{row.Id}").ExecuteNonQueryAsync();
                await ServerWorkshop.With(charge, handled++, "card").ExecuteNonQueryAsync();
                await transaction.CommitAsync();
            }
            await ServerWorkshop.With(delete, (object)rows.Select(r => r.Id).ToArray()).ExecuteNonQueryAsync();
        }
        return Workshop.Rate(Events, began);
    }
}

internal sealed class ServerChargingReceiver : IReceiver<Tap>
{
    public async Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
    {
        var transaction = (NpgsqlTransaction)await delivery.BeginAsync(cancellationToken);
        await using var charge = new NpgsqlCommand(
            "INSERT INTO charge (number, card) VALUES ($1, $2)", transaction.Connection, transaction)
        {
            Parameters = { new() { Value = delivery.Data.Number }, new() { Value = delivery.Data.Card } },
        };
        await charge.ExecuteNonQueryAsync(cancellationToken);
    }
}
