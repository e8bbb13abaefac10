using System.Diagnostics;
using System.Globalization;
using System.Text;
using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;
using GentleCourier.Amqp.Types;
using GentleCourier.Engines;
using GentleCourier.Servers;

namespace GentleCourier.Bench.Amqp;

/// <summary>
/// AMQP 1.0 against a real broker, in turn with the barest loop on the same wire code: rate, CPU and allocated bytes of
/// this process. The broker shares the machine.
/// </summary>
internal static class AmqpMeasurements
{
    private const int InFlight = 2000, Prefetch = 1000, Part = 250;

    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(2);

    private static readonly byte[] Json = Encoding.UTF8.GetBytes("""
        {"specversion":"1.0","id":"0198f2a4-7f2b-7c6e-9d1a-3f5b8c2d4e6f","source":"/skerryline/harbour",
         "type":"skerryline.tap","time":"2026-11-26T08:15:00.1234567+00:00","partitionkey":"card-4711",
         "datacontenttype":"application/json",
         "data":{"gate":"Longsand 2","card":"card-4711","sailing":"2026-11-26/0815","fare":"adult"}}
        """);

    private static readonly byte[] Message = Write();

    /// <summary>amqp [EVENTS]</summary>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 20_000;
        using var broker = new PrivateAmqp(Directory.CreateTempSubdirectory("courier-bench-server-").FullName);
        var queue = broker.Create("taps");
        var address = EngineAddress.TryParse(broker.Address, out var parsed)
            ? AmqpAddress.Parse(parsed) : throw new FormatException(broker.Address);
        Console.WriteLine(
            $"{"",-34} {"events/s",9} {"CPU us/event",13} {"bytes/event",12}   ({Message.Length} bytes a message)");
        var (connection, _) = await Reach.AnyAsync(
            address, 0, host => new() { Peer = $"{host}", ContainerId = "bench" }, default);
        await using var __ = connection;
        var sender = await (await connection.BeginSessionAsync(default)).AttachSenderAsync("out", queue, default);
        var receiver = await (await connection.BeginSessionAsync(default)).AttachReceiverAsync("in", queue, default);

        var ratios = (Publish: new List<double>(), Receive: new List<double>());
        for (var round = 0; round < 6; round++)
        {
            var isWarm = round > 0;
            var bare = await BareAsync(address, queue, receives: false, events, isWarm);
            var ours = await MeasureAsync("publish and confirm: ours", events, isWarm, () =>
                PublishAsync(sender, events));
            if (isWarm) ratios.Publish.Add(ours / bare);
            bare = await BareAsync(address, queue, receives: true, events - Prefetch, isWarm);
            ours = await MeasureAsync("receive and settle: ours", events - Prefetch, isWarm,
                () => ReceiveAsync(receiver, events - Prefetch));
            if (isWarm) ratios.Receive.Add(ours / bare);
            await ReceiveRestAsync(receiver);
        }
        Console.WriteLine($"publish and confirm, ratio of rates: {Text(ratios.Publish)}");
        Console.WriteLine($"receive and settle, ratio of rates: {Text(ratios.Receive)}");
        return 0;
    }

    private static async Task<double> BareAsync(
        AmqpAddress address, string queue, bool receives, int events, bool isShown)
    {
        using var bare = await BareAmqp.OpenAsync(address, queue, receives);
        return await MeasureAsync(
            $"{(receives ? "receive and settle" : "publish and confirm")}: bare", events, isShown, () =>
            {
                if (receives) bare.Receive(events, Prefetch);
                else bare.Publish(Message, events, InFlight);
                return Task.CompletedTask;
            });
    }

    private static async Task PublishAsync(SendingLink link, int events)
    {
        using var writer = new CloudEventWriter();
        var part = Enumerable.Repeat(Json, Part).ToList();
        var onTheirWay = new Queue<Task<Sent>>();
        for (var sent = 0; sent < events; sent += Part)
        {
            onTheirWay.Enqueue(link.SendAsync(part, (json, to) => writer.Write(json, to), Limit, default));
            if (onTheirWay.Count == InFlight / Part) await ConfirmedAsync(onTheirWay.Dequeue());
        }
        while (onTheirWay.TryDequeue(out var rest)) await ConfirmedAsync(rest);
    }

    private static async Task ConfirmedAsync(Task<Sent> sending)
    {
        var sent = await sending;
        if (sent.WhyNot is not null) throw sent.WhyNot;
        if (sent.Outcomes.Any(o => o is not Accepted)) throw new InvalidOperationException("not accepted");
    }

    private static async Task ReceiveAsync(ReceivingLink link, int events)
    {
        using var reader = new CloudEventReader();
        var (left, bytes) = (events, 0L);
        link.Grant(Prefetch);
        while (left > 0)
        {
            var arrivals = await link.ReceiveAsync(Prefetch, Budget.Bytes, default);
            foreach (var arrival in arrivals)
                bytes += reader.Read(GentleCourier.Amqp.Messages.Message.Of(arrival.Message)).Length;
            link.Settle(arrivals.Select(a => new Verdict(a.Id, DeliveryState.Accepted)));
            left -= arrivals.Count;
            if (link.Credit < Prefetch / 2) link.Grant(Prefetch);
        }
        if (bytes < events) throw new InvalidOperationException("nothing was read");
    }

    /// <summary>What is left in the queue after a round.</summary>
    private static async Task ReceiveRestAsync(ReceivingLink link)
    {
        while (true)
        {
            using var patience = new CancellationTokenSource(500);
            try
            {
                link.Grant(Prefetch);
                var arrivals = await link.ReceiveAsync(Prefetch, Budget.Bytes, patience.Token);
                link.Settle(arrivals.Select(a => new Verdict(a.Id, DeliveryState.Accepted)));
            }
            catch (OperationCanceledException)
            {
                link.Grant(0);
                return;
            }
        }
    }

    private static async Task<double> MeasureAsync(string what, int events, bool isShown, Func<Task> run)
    {
        var (began, cpu, allocated) =
            (Stopwatch.GetTimestamp(), Environment.CpuUsage.TotalTime, GC.GetTotalAllocatedBytes());
        await run();
        var rate = events / Stopwatch.GetElapsedTime(began).TotalSeconds;
        var micros = (Environment.CpuUsage.TotalTime - cpu).TotalMicroseconds / events;
        if (isShown)
            Console.WriteLine(
                $"{what,-34} {rate,9:N0} {micros,13:0.0} {(GC.GetTotalAllocatedBytes() - allocated) / events,12:N0}");
        return rate;
    }

    private static byte[] Write()
    {
        using var writer = new CloudEventWriter();
        using var buffer = new WireBuffer();
        writer.Write(Json, buffer);
        return buffer.Written.ToArray();
    }

    public static string Text(List<double> values) =>
        $"median {values.Order().ElementAt(values.Count / 2):0.00} ({values.Min():0.00} to {values.Max():0.00})";
}
