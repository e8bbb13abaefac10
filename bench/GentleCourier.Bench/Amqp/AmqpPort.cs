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
    private const int Rounds = 10, InFlight = 2000, Prefetch = 1000;

    /// <summary>How many events a second, and how much of a processor this process takes for each.</summary>
    private readonly record struct Pace(double Rate, double Micros)
    {
        public override string ToString() => $"{Rate,7:N0} a second ({Micros:0} us)";
    }

    /// <summary>Begins to measure; what it returns ends it.</summary>
    private static Func<long, Pace> Begin()
    {
        var (began, cpu) = (Stopwatch.GetTimestamp(), Environment.CpuUsage.TotalTime);
        return events => new(
            events / Stopwatch.GetElapsedTime(began).TotalSeconds,
            (Environment.CpuUsage.TotalTime - cpu).TotalMicroseconds / events);
    }

    /// <summary>
    /// amqp-port [EVENTS] [apart]; apart: the broker has the first processor to itself, and this process the second.
    /// </summary>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 20_000;
        using var broker = new PrivateAmqp(Directory.CreateTempSubdirectory("courier-bench-server-").FullName);
        if (args.Contains("apart"))
        {
            Pin(File.ReadAllText(Path.Combine(broker.Folder, "pid")).Trim(), processor: 0);
            Pin(Environment.ProcessId.ToString(CultureInfo.InvariantCulture), processor: 1);
        }
        broker.Create("taps");
        var relays = new List<(Pace Ours, Pace Bare)>();
        var receives = new List<(Pace Ours, Pace Bare)>();
        for (var round = 0; round <= Rounds; round++)
        {
            // What the one publishes the other receives.
            var bareRelay = await BareRelayAsync(broker, events);
            var bareReceive = await BareReceiveAsync(broker, events);
            var relay = await RelayAsync(broker, events);
            var receive = await ReceiveAsync(broker, events);
            Console.WriteLine(
                $"relay {relay}, bare {bareRelay}; receive {receive}, bare {bareReceive}"
                + (round == 0 ? "   (to warm up)" : ""));
            if (round == 0) continue;
            relays.Add((relay, bareRelay));
            receives.Add((receive, bareReceive));
        }
        Console.WriteLine($"relay, {Ratios(relays)}");
        Console.WriteLine($"receive, {Ratios(receives)}");
        return 0;
    }

    private static string Ratios(List<(Pace Ours, Pace Bare)> rounds)
    {
        var together = rounds.Sum(r => 1 / r.Bare.Rate) / rounds.Sum(r => 1 / r.Ours.Rate);
        return $"ratio of rates: {AmqpMeasurements.Text(rounds.ConvertAll(r => r.Ours.Rate / r.Bare.Rate))}, "
            + $"of all rounds together {together:0.00}";
    }

    private static void Pin(string process, int processor)
    {
        using var taskset = Process.Start("taskset", ["-a", "-c", "-p", $"{processor}", process]);
        taskset.WaitForExit();
        if (taskset.ExitCode != 0) throw new InvalidOperationException($"taskset could not move process {process}");
    }

    private static Dictionary<string, string?> At(PrivateAmqp broker) => new()
    {
        ["Courier:Broker"] = $"{broker.Address}/?queue=/amq/queue/{{queue}}", ["Courier:Routes:bench.tap"] = "taps",
    };

    private static AmqpAddress Parse(PrivateAmqp broker) => EngineAddress.TryParse(broker.Address, out var parsed)
        ? AmqpAddress.Parse(parsed) : throw new FormatException(broker.Address);

    private static async Task<Pace> RelayAsync(PrivateAmqp broker, int events)
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
        var measured = Begin();
        await LeftAsync(store, most: 0);
        var rate = measured(left);
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

    private static async Task<Pace> BareRelayAsync(PrivateAmqp broker, int events)
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
        var measured = Begin();
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
            if (messages.Count == 0) return measured(events);
            wire.Publish(messages, InFlight);
            Workshop.Run(delete, last);
        }
    }

    private static async Task<Pace> ReceiveAsync(PrivateAmqp broker, int events)
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
        var (before, measured) = (counter.Count, Begin());
        while (counter.Count < events) await Task.Delay(1);
        var rate = measured(events - before);
        await host.StopAsync();
        return rate;
    }

    private static async Task<Pace> BareReceiveAsync(PrivateAmqp broker, int events)
    {
        using var wire = await BareAmqp.OpenAsync(Parse(broker), "/amq/queue/taps", receives: true);
        var measured = Begin();
        wire.Receive(events, Prefetch, static message =>
            JsonSerializer.Deserialize<Tap>(Message.Of(message).Body.Span, JsonSerializerOptions.Web));
        return measured(events);
    }
}
