using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Publishing;
using GentleCourier.Receiving;
using Microsoft.Extensions.DependencyInjection;
using Npgsql;

namespace GentleCourier.Bench.Postgres;

/// <summary>Waking, and reading the figures of a long queue.</summary>
internal static class PostgresMeasurements
{
    public static async Task<int> RunAsync()
    {
        await using var server = new ServerWorkshop();
        await server.FillAsync("ours_1000000", 1_000_000);
        var broker = await server.BrokerAsync(ServerWorkshop.Address("ours_1000000"));
        var reads = new List<double>();
        for (var i = 0; i < 50; i++)
        {
            var began = Stopwatch.GetTimestamp();
            await broker.ReadFiguresAsync();
            reads.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }
        Print("reading depth and lag with 1,000,000 waiting", reads[10..]);

        Print("commit, notify and read, bare", await BareWakeAsync(200));
        Print("commit to handler, idle system", await WakeAsync(server, 200));
        return 0;
    }

    private static void Print(string what, List<double> times)
    {
        times.Sort();
        Console.WriteLine($"{what,-46} median {times[times.Count / 2],6:0.00} ms   95 % {times[times.Count * 95 / 100],6:0.00} ms");
    }

    private static async Task<List<double>> WakeAsync(ServerWorkshop server, int count)
    {
        var queues = ServerWorkshop.AddressOfNew("target");
        await server.BrokerAsync(queues);
        var arrived = new Arrivals();
        var publisher = server.Host(ServerWorkshop.AddressOfNew("harbour"), queues, _ => { });
        var receiver = server.Host(
            ServerWorkshop.AddressOfNew("fares"), queues, c => c.Receive("taps", q => q.Handle<Tap, ArrivalReceiver>()), new() { ["Courier:Relay:Enabled"] = "false" },
            s => s.AddSingleton(arrived));
        await publisher.StartAsync();
        await receiver.StartAsync();
        var (store, outbox) = (publisher.Services.GetRequiredService<IStore>(), publisher.Services.GetRequiredService<IOutbox>());
        var times = new List<double>();
        for (var i = 0; i < count + 20; i++)
        {
            await Task.Delay(50);
            await using var connection = await store.OpenConnectionAsync();
            await using var transaction = await connection.BeginTransactionAsync();
            var handled = arrived.Next();
            var began = Stopwatch.GetTimestamp();
            await outbox.AddAndCommitAsync(transaction, Workshop.Tap(i));
            await handled;
            if (i >= 20) times.Add(Stopwatch.GetElapsedTime(began, arrived.At).TotalMilliseconds);
        }
        return times;
    }

    private static async Task<List<double>> BareWakeAsync(int count)
    {
        ServerWorkshop.AddressOfNew("bare_harbour");
        await using var writer = ServerWorkshop.Open("bare_harbour", "CREATE TABLE outbox (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, event bytea NOT NULL)");
        await using var listener = ServerWorkshop.Open("bare_harbour", "LISTEN news");
        await using var reader = ServerWorkshop.Open("bare_harbour");
        await using var read = ServerWorkshop.Prepare(reader, "SELECT id, event FROM outbox ORDER BY id DESC LIMIT 1");
        var times = new List<double>();
        for (var i = 0; i < count + 20; i++)
        {
            await Task.Delay(50);
            var hearing = Task.Run(async () =>
            {
                await listener.WaitAsync();
                await ServerWorkshop.ReadAsync(read);
                return Stopwatch.GetTimestamp();
            });
            await Task.Delay(20);
            var began = Stopwatch.GetTimestamp();
            await using var batch = new NpgsqlBatch(writer) { BatchCommands = { new("INSERT INTO outbox (event) VALUES ($1)") { Parameters = { new() { Value = Workshop.Json(i) } } }, new("NOTIFY news") } };
            await batch.ExecuteNonQueryAsync();
            var at = await hearing;
            if (i >= 20) times.Add(Stopwatch.GetElapsedTime(began, at).TotalMilliseconds);
        }
        return times;
    }

    private sealed class Arrivals
    {
        private TaskCompletionSource next = new();

        public long At { get; private set; }

        public Task Next() => (next = new(TaskCreationOptions.RunContinuationsAsynchronously)).Task;

        public void Arrived()
        {
            At = Stopwatch.GetTimestamp();
            next.TrySetResult();
        }
    }

    private sealed class ArrivalReceiver(Arrivals arrivals) : IReceiver<Tap>
    {
        public Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
        {
            arrivals.Arrived();
            return Task.CompletedTask;
        }
    }
}
