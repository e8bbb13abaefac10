using System.Diagnostics;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Bench;

/// <summary>
/// A business transaction that publishes one event: its rate, against that of the same with a plain insert of the same
/// bytes, which is what anybody would write by hand; or against the same with nothing at all.
/// </summary>
/// <param name="smallest">The smallest transaction there is, one insert; or a usual one: look, insert, update.</param>
/// <param name="plain">Whether its twin inserts the same bytes.</param>
internal sealed class OutboxCost(bool smallest, bool plain = true) : IBenchmark
{
    public string Name => (smallest ? "outbox-min" : "outbox") + (plain ? "" : "-none");

    public string What => (smallest
        ? "a transaction of one insert that publishes one event, "
        : "a transaction that looks, inserts and updates, and publishes one event, ")
        + (plain ? "against the same with a plain insert of the same bytes" : "against the same without");

    public int Events => 10_000;

    public async Task<double> OursAsync(Workshop workshop)
    {
        var host = workshop.Host(_ => { }, new() { ["Courier:Relay:Enabled"] = "false" });
        await host.StartAsync();
        var outbox = host.Services.GetRequiredService<IOutbox>();
        return await RunAsync(host.Services.GetRequiredService<IStorePort>(),
            (transaction, i) => outbox.AddAsync(transaction, Workshop.Tap(i)));
    }

    public async Task<double> BareAsync(Workshop workshop)
    {
        var host = workshop.Host(_ => { }, new() { ["Courier:Relay:Enabled"] = "false" });
        await host.StartAsync();
        return await RunAsync(host.Services.GetRequiredService<IStorePort>(), null);
    }

    /// <param name="store">Where.</param>
    /// <param name="publish">Publishes within a transaction; null: nothing is published.</param>
    private async Task<double> RunAsync(IStorePort store, Func<SqliteTransaction, int, Task>? publish)
    {
        await using var connection = (SqliteConnection)await store.OpenConnectionAsync();
        Workshop.Execute(connection, """
            CREATE TABLE tap (number INTEGER PRIMARY KEY, pier TEXT, card TEXT, sailing TEXT);
            CREATE INDEX by_card ON tap (card);
            CREATE TABLE deck (sailing TEXT PRIMARY KEY, on_board INTEGER) WITHOUT ROWID;
            CREATE TABLE event (number INTEGER PRIMARY KEY, type TEXT NOT NULL, json BLOB NOT NULL);
            """);
        await using var look = Workshop.Prepare(connection, "SELECT count(*) FROM tap WHERE card = $1", 1);
        await using var update = Workshop.Prepare(
            connection,
                "INSERT INTO deck VALUES ($1, 1) ON CONFLICT (sailing) DO UPDATE SET on_board = on_board + 1", 1);
        await using var insert = Workshop.Prepare(
            connection, "INSERT INTO tap (pier, card, sailing) VALUES ($1, $2, $3)", 3);
        await using var byHand = Workshop.Prepare(connection, "INSERT INTO event (type, json) VALUES ($1, $2)", 2);
        var began = Stopwatch.GetTimestamp();
        for (var i = 0; i < Events; i++)
        {
            await using var transaction = connection.BeginTransaction();
            (look.Transaction, insert.Transaction, update.Transaction) = (transaction, transaction, transaction);
            byHand.Transaction = transaction;
            var tap = Workshop.Tap(i);
            if (!smallest)
            {
                look.Parameters[0].Value = tap.Card;
                look.ExecuteScalar();
                Workshop.Run(update, tap.Sailing);
            }
            Workshop.Run(insert, tap.Pier, tap.Card, tap.Sailing);
            if (publish is not null) await publish(transaction, i);
            else if (plain) Workshop.Run(byHand, "bench.tap", Workshop.Json(i));
            await transaction.CommitAsync();
        }
        return Workshop.Rate(Events, began);
    }
}
