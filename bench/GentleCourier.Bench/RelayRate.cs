using System.Diagnostics;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Bench;

/// <summary>
/// The relay, against a loop that copies a batch into the other file and then deletes it from the first.
/// </summary>
internal sealed class RelayRate : IBenchmark
{
    public const string BareBroker = """
        CREATE TABLE queue (id INTEGER PRIMARY KEY, due INTEGER NOT NULL, lease INTEGER,
            attempts INTEGER NOT NULL DEFAULT 0,
            event BLOB NOT NULL);
        CREATE INDEX queue_due ON queue (due);
        """;

    public string Name => "relay";

    public string What => "outbox to broker in batches of 500, against a bare copy and delete";

    public int Events => 100_000;

    public async Task<double> OursAsync(Workshop workshop)
    {
        var broker = await workshop.BrokerAsync();
        var host = workshop.Host(_ => { });
        var store = host.Services.GetRequiredService<IStorePort>();
        await store.PrepareAsync(create: true);
        var outbox = host.Services.GetRequiredService<IOutbox>();
        await using (var connection = await store.OpenConnectionAsync())
        {
            await using var transaction = await connection.BeginTransactionAsync();
            await outbox.AddManyAsync(
                transaction, Enumerable.Range(0, Events).Select(i => EventDraft.Of(Workshop.Tap(i))));
            await transaction.CommitAsync();
        }

        var began = Stopwatch.GetTimestamp();
        await host.StartAsync();
        while ((await broker.Reports!.ReadFiguresAsync()).Queues.Single().Ready < Events) await Task.Delay(1);
        return Workshop.Rate(Events, began);
    }

    public Task<double> BareAsync(Workshop workshop)
    {
        using var store = workshop.Open(workshop.StoreFile,
            "CREATE TABLE outbox (seq INTEGER PRIMARY KEY, type TEXT NOT NULL, event BLOB NOT NULL)");
        using var broker = workshop.Open(workshop.BrokerFile, BareBroker);
        using (var add = Workshop.Prepare(store, "INSERT INTO outbox (type, event) VALUES ($1, $2)", 2))
        {
            Workshop.Execute(store, "BEGIN");
            for (var i = 0; i < Events; i++) Workshop.Run(add, "bench.tap", Workshop.Json(i));
            Workshop.Execute(store, "COMMIT");
        }

        using var read = Workshop.Prepare(store, "SELECT seq, type, event FROM outbox ORDER BY seq LIMIT 500", 0);
        using var insert = Workshop.Prepare(broker, "INSERT INTO queue (due, event) VALUES ($1, $2)", 2);
        using var delete = Workshop.Prepare(store, "DELETE FROM outbox WHERE seq = $1", 1);
        var began = Stopwatch.GetTimestamp();
        while (true)
        {
            var rows = new List<(long Seq, byte[] Event)>();
            using (var reader = read.ExecuteReader())
                while (reader.Read()) rows.Add((reader.GetInt64(0), (byte[])reader.GetValue(2)));
            if (rows.Count == 0) break;

            Workshop.Execute(broker, "BEGIN IMMEDIATE");
            foreach (var row in rows) Workshop.Run(insert, began, row.Event);
            Workshop.Execute(broker, "COMMIT");
            Workshop.Execute(store, "BEGIN IMMEDIATE");
            foreach (var row in rows) Workshop.Run(delete, row.Seq);
            Workshop.Execute(store, "COMMIT");
        }
        return Task.FromResult(Workshop.Rate(Events, began));
    }
}
