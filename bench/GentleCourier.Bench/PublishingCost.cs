using System.Globalization;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Bench;

/// <summary>
/// What an event costs its publisher besides the commit: many in one transaction on a SQLite file, one by one, against
/// plain inserts of the same bytes.
/// </summary>
internal static class PublishingCost
{
    private const int Rounds = 8;

    /// <summary>publishing [EVENTS]</summary>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 100_000;
        await using var workshop = new Workshop();
        var host = workshop.Host(_ => { }, new() { ["Courier:Relay:Enabled"] = "false" });
        await host.StartAsync();
        var outbox = host.Services.GetRequiredService<IOutbox>();
        await using var connection =
            (SqliteConnection)await host.Services.GetRequiredService<IStorePort>().OpenConnectionAsync();
        Workshop.Execute(
            connection, "CREATE TABLE event (number INTEGER PRIMARY KEY, type TEXT NOT NULL, json BLOB NOT NULL)");
        await using var byHand = Workshop.Prepare(connection, "INSERT INTO event (type, json) VALUES ($1, $2)", 2);
        Console.WriteLine($"{"",-14} {"us/event",9} {"bytes",7}");
        for (var round = 1; round <= Rounds; round++)
        {
            var ours = await MeasureAsync(
                connection, events, (transaction, i) => outbox.AddAsync(transaction, Workshop.Tap(i)));
            var bare = await MeasureAsync(connection, events, (transaction, i) =>
            {
                byHand.Transaction = transaction;
                Workshop.Run(byHand, "bench.tap", Workshop.Json(i));
                return Task.CompletedTask;
            });
            if (round <= Rounds / 2) continue;
            Console.WriteLine($"{"published",-14} {ours}");
            Console.WriteLine($"{"by hand",-14} {bare}");
        }
        return 0;
    }

    private static async Task<string> MeasureAsync(
        SqliteConnection connection, int events, Func<SqliteTransaction, int, Task> add)
    {
        await using var transaction = connection.BeginTransaction();
        var (cpu, bytes) = (Environment.CpuUsage.TotalTime, GC.GetTotalAllocatedBytes());
        for (var i = 0; i < events; i++) await add(transaction, i);
        var cost = $"{(Environment.CpuUsage.TotalTime - cpu).TotalMicroseconds / events,9:0.0} "
            + $"{(GC.GetTotalAllocatedBytes() - bytes) / events,7:N0}";
        await transaction.RollbackAsync();
        return cost;
    }
}
