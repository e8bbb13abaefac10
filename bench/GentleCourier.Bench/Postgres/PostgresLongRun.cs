using System.Diagnostics;
using System.Globalization;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Npgsql;

namespace GentleCourier.Bench.Postgres;

/// <summary>
/// Very many events through one queue, published and received at the same time: the rate of each stretch, and what the
/// queue's table takes up after it.
/// </summary>
internal static class PostgresLongRun
{
    private const int Backlog = 20_000, BatchSize = 500, Prefetch = 500, Workers = 2;

    /// <param name="args">How many events, by default ten million.</param>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 10_000_000;
        await using var server = new ServerWorkshop();
        var address = ServerWorkshop.AddressOfNew("long");
        var broker = await server.BrokerAsync(address);
        var counter = new Counter();
        for (var worker = 0; worker < Workers; worker++)
        {
            await server.Host(
                ServerWorkshop.Address("inbox"), address,
                courier => courier.Receive("taps", queue =>
                {
                    queue.Options.Prefetch = Prefetch;
                    queue.Options.Inbox = false;
                    queue.Handle<Tap, CountingReceiver>();
                }),
                services: services => services.AddSingleton(counter)).StartAsync();
        }
        var publishing = Task.Run(() => PublishAsync(broker, counter, events));

        await using var connection = ServerWorkshop.Open("long");
        Console.WriteLine($"{"events",12} {"per second",12} {"table MB",10} {"index MB",10} {"dead rows",12}");
        for (var done = 0; done < events;)
        {
            var began = Stopwatch.GetTimestamp();
            var next = Math.Min(done + events / 10, events);
            var before = counter.Count;
            while (counter.Count < next) await Task.Delay(10);
            var rate = Workshop.Rate(counter.Count - before, began);
            done = next;
            Console.WriteLine($"{done,12:N0} {rate,12:N0} {Sizes(connection)}");
        }
        await publishing;
        // Settling is behind handling by a round trip.
        while ((await broker.Reports!.ReadFiguresAsync()).Queues[0] is not { Ready: 0, InHand: 0 })
            await Task.Delay(10);
        Console.WriteLine($"{"empty",12} {"",12} {Sizes(connection)}");
        return 0;
    }

    private static async Task PublishAsync(IBroker broker, Counter handled, int events)
    {
        for (var published = 0; published < events; published += BatchSize)
        {
            while (published - handled.Count > Backlog) await Task.Delay(1);
            var first = published;
            var batch = Enumerable.Range(first, Math.Min(BatchSize, events - first))
                .Select(i => new EncodedEvent($"{i}", "bench.tap", null, Workshop.Json(i)));
            await broker.PublishAsync([.. batch]);
        }
    }

    private static string Sizes(NpgsqlConnection connection)
    {
        using var command = new NpgsqlCommand(
            """
            SELECT pg_table_size('courier.copy') / 1e6, pg_indexes_size('courier.copy') / 1e6,
                   (SELECT n_dead_tup FROM pg_stat_user_tables WHERE schemaname = 'courier' AND relname = 'copy')
            """, connection);
        using var row = command.ExecuteReader();
        row.Read();
        return $"{row.GetDecimal(0),10:0.0} {row.GetDecimal(1),10:0.0} {row.GetInt64(2),12:N0}";
    }
}
