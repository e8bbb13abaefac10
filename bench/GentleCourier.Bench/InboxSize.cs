using System.Diagnostics;
using System.Globalization;
using GentleCourier.Bench.Postgres;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Sqlite;
using Npgsql;

namespace GentleCourier.Bench;

/// <summary>
/// What an event takes up in an inbox, table and index, by the kind of its id and by the number of its sources, how
/// many are written a second, and what the server's log has of each.
/// </summary>
internal static class InboxSize
{
    private const int Handlers = 2, EventsATransaction = 500;

    private sealed record Kind(string Name, Func<int, string> Id, int Sources = 1);

    private static readonly Kind[] Kinds =
    [
        new("UUID of version 7", _ => Guid.CreateVersion7().ToString()),
        new("UUID of version 4", _ => Guid.NewGuid().ToString()),
        new("gate-7/00000001", i => string.Create(CultureInfo.InvariantCulture, $"gate-7/{i:D8}")),
        new("version 7, 1,000 sources", _ => Guid.CreateVersion7().ToString(), 1_000),
        new("version 7, a source each", _ => Guid.CreateVersion7().ToString(), int.MaxValue),
    ];

    /// <param name="args">
    /// How many events, by default a million; which engine, by default both; which kind, by its place from 1, by
    /// default all.
    /// </param>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 1_000_000;
        var kinds = args.Length > 2 ? [Kinds[int.Parse(args[2], CultureInfo.InvariantCulture) - 1]] : Kinds;
        Console.WriteLine($"{"",-12}{"ids",-26}{"events",12}{"bytes each",12}{"a second",10}{"logged each",13}");
        foreach (var kind in kinds)
        {
            if (args.Length < 2 || args[1] == "sqlite") await OnSqliteAsync(kind, events);
            if (args.Length < 2 || args[1] == "postgres") await OnPostgresAsync(kind, events);
        }
        return 0;
    }

    private static async Task OnSqliteAsync(Kind kind, int events)
    {
        await using var workshop = new Workshop();
        await using var store = new SqliteEngine().CreateStore(
            new("sqlite", workshop.StoreFile), TimeProvider.System);
        await store.PrepareAsync(create: true);
        long Size() => new FileInfo(workshop.StoreFile).Length + new FileInfo(workshop.StoreFile + "-wal").Length;
        var before = Size();
        var rate = await FillAsync(store, kind, events);
        Say("SQLite", kind, events, Size() - before, rate, "");
    }

    private static async Task OnPostgresAsync(Kind kind, int events)
    {
        await using var server = new ServerWorkshop();
        if (!EngineAddress.TryParse(ServerWorkshop.AddressOfNew("size"), out var address)) return;
        await using var store = new PostgresEngine().CreateStore(address, TimeProvider.System);
        await store.PrepareAsync(create: true);
        await using var connection = ServerWorkshop.Open("size");
        var began = Ask(connection, "SELECT (pg_current_wal_lsn() - '0/0')::bigint");
        var rate = await FillAsync(store, kind, events);
        var logged = Ask(connection, "SELECT (pg_current_wal_lsn() - '0/0')::bigint") - began;
        var size = Ask(connection, """
            SELECT pg_total_relation_size('courier.inbox') + pg_total_relation_size('courier.inbox_source')
            """);
        Say("PostgreSQL", kind, events, size, rate, $"{(double)logged / events:N0}");
    }

    private static async Task<double> FillAsync(IStorePort store, Kind kind, int events)
    {
        var (began, place) = (Stopwatch.GetTimestamp(), 0);
        await Task.WhenAll(Enumerable.Range(0, Handlers).Select(_ => Task.Run(async () =>
        {
            while (Interlocked.Add(ref place, EventsATransaction) is var end && end <= events)
            {
                InboxEvent[] keys = [.. Enumerable.Range(end - EventsATransaction, EventsATransaction)
                    .Select(i => new InboxEvent($"/gates/{i % kind.Sources}", kind.Id(i), i))];
                await using var handling = await store.BeginHandlingAsync("taps", keys);
                await handling!.CommitAsync([]);
            }
        })));
        return Workshop.Rate(events, began);
    }

    private static void Say(string engine, Kind kind, int events, long size, double rate, string logged) =>
        Console.WriteLine(
            $"{engine,-12}{kind.Name,-26}{events,12:N0}{(double)size / events,12:N1}{rate,10:N0}{logged,13}");

    private static long Ask(NpgsqlConnection connection, string sql)
    {
        using var command = new NpgsqlCommand(sql, connection);
        return (long)command.ExecuteScalar()!;
    }
}
