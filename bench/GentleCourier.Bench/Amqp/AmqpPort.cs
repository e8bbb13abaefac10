using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Types;
using GentleCourier.Engines;
using GentleCourier.Servers;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Bench.Amqp;

/// <summary>
/// A relay and a receiver on a real broker, in turn with the barest loops on the same wire code and the bare driver of
/// the outbox's database.
/// </summary>
internal static class AmqpPort
{
    private const int Rounds = 5, InFlight = 2000, Prefetch = 1000;

    /// <summary>amqp-port [EVENTS]</summary>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 20_000;
        using var broker = new PrivateAmqp(Directory.CreateTempSubdirectory("courier-bench-server-").FullName);
        broker.Create("taps");
        var ratios = (Relay: new List<double>(), Receive: new List<double>());
        for (var round = 0; round <= Rounds; round++)
        {
            // What the one publishes the other receives.
            var bareRelay = await BareRelayAsync(broker, events);
            var bareReceive = await BareReceiveAsync(broker, events);
            var relay = await RelayAsync(broker, events);
            var receive = await ReceiveAsync(broker, events);
            Console.WriteLine(
                $"relay {relay,7:N0} a second, bare {bareRelay,7:N0}; receive {receive,7:N0}, bare {bareReceive,7:N0}"
                + (round == 0 ? "   (to warm up)" : ""));
            if (round == 0) continue;
            ratios.Relay.Add(relay / bareRelay);
            ratios.Receive.Add(receive / bareReceive);
        }
        Console.WriteLine($"relay, ratio of rates: {AmqpMeasurements.Text(ratios.Relay)}");
        Console.WriteLine($"receive, ratio of rates: {AmqpMeasurements.Text(ratios.Receive)}");
        return 0;
    }

    private static Dictionary<string, string?> At(PrivateAmqp broker) => new()
    {
        ["Courier:Broker"] = $"{broker.Address}/?queue=/amq/queue/{{queue}}", ["Courier:Routes:bench.tap"] = "taps",
    };

    private static AmqpAddress Parse(PrivateAmqp broker) => EngineAddress.TryParse(broker.Address, out var parsed)
        ? AmqpAddress.Parse(parsed) : throw new FormatException(broker.Address);

    private static async Task<double> RelayAsync(PrivateAmqp broker, int events)
    {
        await using var workshop = new Workshop();
        var host = workshop.Host(courier => courier.UseAmqp(), At(broker));
        var store = host.Services.GetRequiredService<IStorePort>();
        await store.PrepareAsync(create: true);
        await using (var connection = await store.OpenConnectionAsync())
        {
            await using var transaction = await connection.BeginTransactionAsync();
            await host.Services.GetRequiredService<IOutbox>().AddManyAsync(
                transaction, Enumerable.Range(0, events).Select(i => EventDraft.Of(Workshop.Tap(i))));
            await transaction.CommitAsync();
        }
        await host.StartAsync();
        // From when it is under way: the bare loop has connected before its time begins, too.
        var left = await LeftAsync(store, most: events - 1);
        var began = Stopwatch.GetTimestamp();
        await LeftAsync(store, most: 0);
        var rate = Workshop.Rate((int)left, began);
        await host.StopAsync();
        return rate;
    }

    private static async Task<long> LeftAsync(IStorePort store, int most)
    {
        while (true)
        {
            var waiting = (await store.ReadOutboxFiguresAsync()).Waiting;
            if (waiting <= most) return waiting;
            await Task.Delay(10);
        }
    }

    private static async Task<double> BareRelayAsync(PrivateAmqp broker, int events)
    {
        await using var workshop = new Workshop();
        using var store = workshop.Open(workshop.StoreFile,
            "CREATE TABLE outbox (seq INTEGER PRIMARY KEY, type TEXT NOT NULL, event BLOB NOT NULL)");
        using (var add = Workshop.Prepare(store, "INSERT INTO outbox (type, event) VALUES ($1, $2)", 2))
        {
            Workshop.Execute(store, "BEGIN");
            for (var i = 0; i < events; i++) Workshop.Run(add, "bench.tap", Workshop.Json(i));
            Workshop.Execute(store, "COMMIT");
        }
        using var read = Workshop.Prepare(store, "SELECT seq, event FROM outbox ORDER BY seq LIMIT 500", 0);
        using var delete = Workshop.Prepare(store, "DELETE FROM outbox WHERE seq <= $1", 1);
        using var wire = await BareAmqp.OpenAsync(Parse(broker), "/amq/queue/taps", receives: false);
        using var writer = new CloudEventWriter();
        using var buffer = new WireBuffer();
        var messages = new List<byte[]>();
        var began = Stopwatch.GetTimestamp();
        while (true)
        {
            var last = 0L;
            messages.Clear();
            using (var rows = read.ExecuteReader())
            {
                while (rows.Read())
                {
                    last = rows.GetInt64(0);
                    buffer.CutTo(0);
                    writer.Write((byte[])rows.GetValue(1), buffer);
                    messages.Add(buffer.Written.ToArray());
                }
            }
            if (messages.Count == 0) return Workshop.Rate(events, began);
            wire.Publish(messages, InFlight);
            Workshop.Run(delete, last);
        }
    }

    private static async Task<double> ReceiveAsync(PrivateAmqp broker, int events)
    {
        await using var workshop = new Workshop();
        var counter = new Counter();
        var host = workshop.Host(
            courier => courier.UseAmqp().Receive("taps", queue =>
            {
                (queue.Options.Prefetch, queue.Options.Inbox) = (Prefetch, false);
                queue.Handle<Tap, CountingReceiver>();
            }),
            At(broker), services => services.AddSingleton(counter));
        await host.StartAsync();
        while (counter.Count == 0) await Task.Delay(1);
        var (before, began) = (counter.Count, Stopwatch.GetTimestamp());
        while (counter.Count < events) await Task.Delay(1);
        var rate = Workshop.Rate(events - before, began);
        await host.StopAsync();
        return rate;
    }

    private static async Task<double> BareReceiveAsync(PrivateAmqp broker, int events)
    {
        using var wire = await BareAmqp.OpenAsync(Parse(broker), "/amq/queue/taps", receives: true);
        var began = Stopwatch.GetTimestamp();
        wire.Receive(events, Prefetch, static message =>
            JsonSerializer.Deserialize<Tap>(Message.Of(message).Body.Span, JsonSerializerOptions.Web));
        return Workshop.Rate(events, began);
    }
}
