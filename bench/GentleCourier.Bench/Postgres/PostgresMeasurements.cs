using System.Diagnostics;
using GentleCourier.Engines;
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
            await broker.Reports!.ReadFiguresAsync();
            reads.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }
        Print("reading depth and lag with 1,000,000 waiting", reads[10..]);

        // In turn, so that all see the same machine.
        (string What, Func<int, Task<double>> Measure)[] ways =
        [
            ("commit, notify and read, bare", await BareWakeAsync()),
            ("commit to handler, idle system", await WakeAsync(server, oneDatabase: false)),
            ("the same, store and broker in one database", await WakeAsync(server, oneDatabase: true)),
        ];
        var times = ways.Select(_ => new List<double>()).ToArray();
        for (var i = 0; i < 220; i++)
        {
            for (var way = 0; way < ways.Length; way++)
            {
                await Task.Delay(30);
                var time = await ways[way].Measure(i);
                if (i >= 20) times[way].Add(time);
            }
        }
        for (var way = 0; way < ways.Length; way++) Print(ways[way].What, times[way]);
        return 0;
    }

    private static void Print(string what, List<double> times)
    {
        times.Sort();
        Console.WriteLine(
            $"{what,-46} median {times[times.Count / 2],6:0.00} ms   95 % {times[times.Count * 95 / 100],6:0.00} ms");
    }

    private static async Task<Func<int, Task<double>>> WakeAsync(ServerWorkshop server, bool oneDatabase)
    {
        var name = oneDatabase ? "one" : "two";
        var queues = ServerWorkshop.AddressOfNew(name);
        await server.BrokerAsync(queues);
        var arrived = new Arrivals();
        var publisher = server.Host(
            oneDatabase ? $"{queues}?schema=harbour" : ServerWorkshop.AddressOfNew("harbour"), queues, _ => { });
        var receiver = server.Host(
            ServerWorkshop.AddressOfNew($"{name}_fares"), queues, c =>
                c.Receive("taps", q => q.Handle<Tap, ArrivalReceiver>()), new() { ["Courier:Relay:Enabled"] = "false" },
            s => s.AddSingleton(arrived));
        await publisher.StartAsync();
        await receiver.StartAsync();
        var (store, outbox) = (
            publisher.Services.GetRequiredService<IStorePort>(), publisher.Services.GetRequiredService<IOutbox>());
        return async number =>
        {
            await using var connection = await store.OpenConnectionAsync();
            await using var transaction = await connection.BeginTransactionAsync();
            var handled = arrived.Next();
            var began = Stopwatch.GetTimestamp();
            await outbox.AddAndCommitAsync(transaction, Workshop.Tap(number));
            await handled;
            return Stopwatch.GetElapsedTime(began, arrived.At).TotalMilliseconds;
        };
    }

    private static Task<Func<int, Task<double>>> BareWakeAsync()
    {
        ServerWorkshop.AddressOfNew("bare_harbour");
        var writer = ServerWorkshop.Open("bare_harbour",
            "CREATE TABLE outbox (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, event bytea NOT NULL)");
        var listener = ServerWorkshop.Open("bare_harbour", "LISTEN news");
        var read = ServerWorkshop.Prepare(
            ServerWorkshop.Open("bare_harbour"), "SELECT id, event FROM outbox ORDER BY id DESC LIMIT 1");
        return Task.FromResult<Func<int, Task<double>>>(async number =>
        {
            var hearing = Task.Run(async () =>
            {
                await listener.WaitAsync();
                await ServerWorkshop.ReadAsync(read);
                return Stopwatch.GetTimestamp();
            });
            await Task.Delay(20);
            var began = Stopwatch.GetTimestamp();
            await using var batch = new NpgsqlBatch(
                writer) { BatchCommands = { new(
                "INSERT INTO outbox (event) VALUES ($1)") { Parameters = { new() { Value = Workshop.Json(number) } } },
                new("NOTIFY news") } };
            await batch.ExecuteNonQueryAsync();
            return Stopwatch.GetElapsedTime(began, await hearing).TotalMilliseconds;
        });
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
