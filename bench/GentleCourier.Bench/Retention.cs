using System.Diagnostics;
using System.Globalization;
using GentleCourier.Bench.Postgres;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Sqlite;
using Npgsql;

namespace GentleCourier.Bench;

/// <summary>
/// Very many events through an inbox that remembers an hour, of a simulated time in which a million come in two hours:
/// the rate of each stretch, with clearing away and without, and what the inbox takes up after it.
/// </summary>
internal static class Retention
{
    private const int Handlers = 4, EventsATransaction = 10, EventsAnHour = 500_000;
    private static readonly TimeSpan Keep = TimeSpan.FromHours(1);

    /// <param name="args">How many events, by default five million.</param>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 5_000_000;
        foreach (var clears in new[] { true, false })
        {
            // Without clearing away, as far as a table of the same size: beyond that it grows.
            var count = clears ? events : Math.Min(events, EventsAnHour);
            await using (var workshop = new Workshop())
            {
                var clock = new SimulatedClock();
                await using var store = new SqliteEngine().CreateStore(new("sqlite", workshop.StoreFile), clock);
                await MeasureAsync("SQLite", store, clock, count, clears, () => SizeOf(workshop.StoreFile));
            }
            await using (var server = new ServerWorkshop())
            {
                var clock = new SimulatedClock();
                if (!EngineAddress.TryParse(ServerWorkshop.AddressOfNew("retention"), out var address)) return 1;
                await using var store = new PostgresEngine().CreateStore(address, clock);
                await using var connection = ServerWorkshop.Open("retention");
                await MeasureAsync("PostgreSQL", store, clock, count, clears, () => SizeOf(connection));
            }
        }
        return 0;
    }

    private static async Task MeasureAsync(
        string engine, IStorePort store, SimulatedClock clock, int events, bool clears, Func<string> size)
    {
        await store.PrepareAsync(create: true);
        Console.WriteLine($"{engine}, clearing away {(clears ? "what is older than an hour" : "nothing")}");
        Console.WriteLine($"{"events",12} {"per second",12} {"MB",10}");
        using var ending = new CancellationTokenSource();
        var clearing = clears ? ClearAsync(store, clock, ending.Token) : Task.CompletedTask;
        var stretch = Math.Max(events / 10, EventsATransaction);
        for (var done = 0; done < events; done += stretch)
        {
            var began = Stopwatch.GetTimestamp();
            await Task.WhenAll(Enumerable.Range(0, Handlers)
                .Select(_ => Task.Run(() => HandleAsync(store, clock, stretch / Handlers))));
            Console.WriteLine($"{done + stretch,12:N0} {Workshop.Rate(stretch, began),12:N0} {size()}");
        }
        await ending.CancelAsync();
        await clearing;
    }

    private static async Task HandleAsync(IStorePort store, SimulatedClock clock, int events)
    {
        for (var done = 0; done < events; done += EventsATransaction)
        {
            InboxEvent[] keys = [.. Enumerable.Range(0, EventsATransaction)
                .Select(_ => new InboxEvent("/bench", Guid.CreateVersion7().ToString()))];
            await using (var handling = await store.BeginHandlingAsync("taps", keys))
                await handling!.CommitAsync([]);
            clock.Advance(Keep / EventsAnHour * EventsATransaction);
        }
    }

    /// <summary>
    /// A round whenever a twentieth of the time has passed, as a service does it, but without its rests: of an hour
    /// that lasts a quarter of a minute they would be most. So the rates are those beside a clearing that never rests.
    /// </summary>
    private static async Task ClearAsync(IHousekeeping house, SimulatedClock clock, CancellationToken ending)
    {
        var chore = new Chore(ChoreKind.Inbox, null, Keep);
        for (var last = clock.GetUtcNow(); !ending.IsCancellationRequested; await Task.Delay(1, CancellationToken.None))
        {
            if (clock.GetUtcNow() - last < Keep / 20) continue;
            string? from = null;
            do
            {
                from = (await house.DoAsync(chore, from, CancellationToken.None)).Next;
            }
            while (from is not null && !ending.IsCancellationRequested);
            last = clock.GetUtcNow();
        }
    }

    private static string SizeOf(string file) =>
        $"{new FileInfo(file).Length / 1e6,10:N0} file, {new FileInfo(file + "-wal").Length / 1e6:N0} log";

    private static string SizeOf(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand(
            "SELECT pg_table_size('courier.inbox') / 1e6, pg_indexes_size('courier.inbox') / 1e6", connection);
        using var row = command.ExecuteReader();
        row.Read();
        return $"{row.GetDecimal(0),10:N0} table, {row.GetDecimal(1):N0} index";
    }
}
