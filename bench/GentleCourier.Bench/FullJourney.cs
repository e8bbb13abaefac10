using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Bench;

/// <summary>
/// From the business transaction of one service to the committed effect in another, each with a store of its own, while
/// both run; against the same writes one after another: publish in a transaction each, copy, lease, handle in a
/// transaction each, delete. With a backlog, what is handled is what had waited longest.
/// </summary>
internal sealed class FullJourney(int waiting) : IBenchmark
{
    private const string Taps = "CREATE TABLE tap (number INTEGER PRIMARY KEY, pier TEXT, card TEXT, sailing TEXT);";
    private const string Charges = "CREATE TABLE charge (number INTEGER PRIMARY KEY, card TEXT);";

    public string Name => waiting < 1_000_000 ? "journey" : "journey-1m";

    public string What =>
        $"commit to committed effect with outbox and inbox, {waiting:N0} waiting, against the bare sum of its writes";

    public int Events => 3_000;

    public async Task<double> OursAsync(Workshop workshop)
    {
        await workshop.BacklogAsync(waiting);
        var broker = await workshop.BrokerAsync();
        var harbour = workshop.Host(_ => { });
        var store = harbour.Services.GetRequiredService<IStorePort>();
        var outbox = harbour.Services.GetRequiredService<IOutbox>();
        await harbour.StartAsync();
        await using var connection = (SqliteConnection)await store.OpenConnectionAsync();
        Workshop.Execute(connection, Taps);

        var fares = workshop.Host(
            courier => courier.Receive("taps", queue =>
            {
                queue.Options.Prefetch = ReceiveRate.Prefetch;
                queue.Handle<Tap, ChargingReceiver>();
            }),
            new() { ["Courier:Store"] = $"sqlite:{workshop.ReceiverFile}", ["Courier:Relay:Enabled"] = "false" });
        var receiving = fares.Services.GetRequiredService<IStorePort>();
        await receiving.PrepareAsync(create: true);
        await using (var setUp = (SqliteConnection)await receiving.OpenConnectionAsync()) Workshop.Execute(
            setUp, Charges);
        await fares.StartAsync();
        await using var insert = Workshop.Prepare(
            connection, "INSERT INTO tap (pier, card, sailing) VALUES ($1, $2, $3)", 3);

        var began = Stopwatch.GetTimestamp();
        for (var i = 0; i < Events; i++)
        {
            await using var transaction = connection.BeginTransaction();
            insert.Transaction = transaction;
            var tap = Workshop.Tap(i);
            Workshop.Run(insert, tap.Pier, tap.Card, tap.Sailing);
            await outbox.AddAsync(transaction, tap);
            await transaction.CommitAsync();
        }
        while ((await store.ReadOutboxFiguresAsync()).Waiting > 0
            || Left((await broker.Reports!.ReadFiguresAsync()).Queues) > waiting)
            await Task.Delay(1);
        return Workshop.Rate(Events, began);

        static long? Left(IReadOnlyList<QueueFigures> figures) => figures[0].Ready + figures[0].InHand;
    }

    public Task<double> BareAsync(Workshop workshop)
    {
        using var store = workshop.Open(
            workshop.StoreFile,
                Taps + "CREATE TABLE outbox (seq INTEGER PRIMARY KEY, type TEXT NOT NULL, event BLOB NOT NULL)");
        using var receiver = workshop.Open(
            workshop.ReceiverFile, Charges + "CREATE TABLE inbox (id TEXT PRIMARY KEY) WITHOUT ROWID");
        workshop.BareBacklog(waiting);
        using var broker = workshop.Open(workshop.BrokerFile);
        using var insert = Workshop.Prepare(store, "INSERT INTO tap (pier, card, sailing) VALUES ($1, $2, $3)", 3);
        using var publish = Workshop.Prepare(store, "INSERT INTO outbox (type, event) VALUES ($1, $2)", 2);
        using var read = Workshop.Prepare(store, "SELECT seq, event FROM outbox ORDER BY seq LIMIT 500", 0);
        using var relayed = Workshop.Prepare(store, "DELETE FROM outbox WHERE seq = $1", 1);
        using var enqueue = Workshop.Prepare(broker, "INSERT INTO queue (due, event) VALUES ($1, $2)", 2);
        using var lease = Workshop.Prepare(
            broker,
            $"UPDATE queue SET due = $1, lease = $2, attempts = attempts + 1 WHERE id IN (SELECT id FROM queue WHERE "
            + $"due <= $3 ORDER BY due LIMIT {ReceiveRate.Prefetch}) RETURNING id, event",
            3);
        using var delete = Workshop.Prepare(broker, "DELETE FROM queue WHERE id = $1 AND lease = $2", 2);
        using var inbox = Workshop.Prepare(receiver, "INSERT INTO inbox (id) VALUES ($1)", 1);
        using var charge = Workshop.Prepare(receiver, "INSERT INTO charge (number, card) VALUES ($1, $2)", 2);

        var began = Stopwatch.GetTimestamp();
        for (var i = 0; i < Events; i++)
        {
            var tap = Workshop.Tap(i);
            Workshop.Execute(store, "BEGIN IMMEDIATE");
            Workshop.Run(insert, tap.Pier, tap.Card, tap.Sailing);
            Workshop.Run(publish, "bench.tap", Workshop.Json(i));
            Workshop.Execute(store, "COMMIT");
        }
        while (true)
        {
            var rows = Rows(read);
            if (rows.Count == 0) break;
            Workshop.Execute(broker, "BEGIN IMMEDIATE");
            foreach (var row in rows) Workshop.Run(enqueue, 0L, row.Event);
            Workshop.Execute(broker, "COMMIT");
            Workshop.Execute(store, "BEGIN IMMEDIATE");
            foreach (var row in rows) Workshop.Run(relayed, row.Id);
            Workshop.Execute(store, "COMMIT");
        }
        for (var handled = 0; handled < Events;)
        {
            (lease.Parameters[0].Value, lease.Parameters[1].Value, lease.Parameters[2].Value) = (long.MaxValue, 1L, 1L);
            Workshop.Execute(broker, "BEGIN IMMEDIATE");
            var rows = Rows(lease);
            Workshop.Execute(broker, "COMMIT");
            foreach (var row in rows)
            {
                Workshop.Execute(receiver, "BEGIN IMMEDIATE");
                Workshop.Run(inbox, $"{row.Id}");
                Workshop.Run(charge, handled++, "card");
                Workshop.Execute(receiver, "COMMIT");
            }
            Workshop.Execute(broker, "BEGIN IMMEDIATE");
            foreach (var row in rows) Workshop.Run(delete, row.Id, 1L);
            Workshop.Execute(broker, "COMMIT");
        }
        return Task.FromResult(Workshop.Rate(Events, began));
    }

    private static List<(long Id, byte[] Event)> Rows(SqliteCommand command)
    {
        var rows = new List<(long, byte[])>();
        using var reader = command.ExecuteReader();
        while (reader.Read()) rows.Add((reader.GetInt64(0), (byte[])reader.GetValue(1)));
        return rows;
    }
}

internal sealed class ChargingReceiver : IReceiver<Tap>
{
    public async Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
    {
        var transaction = await delivery.BeginAsync(cancellationToken);
        await using var charge = Workshop.Prepare(
            (SqliteConnection)transaction.Connection!, "INSERT INTO charge (number, card) VALUES ($1, $2)", 2);
        charge.Transaction = (SqliteTransaction)transaction;
        Workshop.Run(charge, delivery.Data.Number, delivery.Data.Card);
    }
}
