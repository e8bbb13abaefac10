using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Threading.Channels;
using GentleCourier.Engines;
using GentleCourier.Servers;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Bench.Amqp;

/// <summary>
/// A worker whose broker is some milliseconds away: what it handles a second with fixed prefetches, and with the one
/// that tunes itself.
/// </summary>
internal static class AmqpFar
{
    private static readonly TimeSpan Measured = TimeSpan.FromSeconds(5);
    private static readonly Prefetch[] Limits = [1, 20, 100, 1000, Prefetch.SelfTuned];

    public static async Task<int> RunAsync()
    {
        using var broker = new PrivateAmqp(Directory.CreateTempSubdirectory("courier-bench-server-").FullName);
        broker.Create("taps");
        var port = new Uri(broker.Address).Port;
        Console.WriteLine($"{"away",8} {"handling",9}  " + string.Concat(Limits.Select(l => $"{l,14}")));
        foreach (var away in new[] { 0, 5, 25 })
        {
            using var distance = new Distance(port, TimeSpan.FromMilliseconds(away));
            foreach (var handling in new[] { 1, 20 })
            {
                Console.Write($"{2 * away,5} ms {handling,6} ms  ");
                foreach (var limit in Limits)
                {
                    await FillAsync(broker, events: 10_000);
                    Console.Write($"{await ReceiveAsync(broker, distance.Port, handling, limit),14:N0}");
                    await EmptyAsync(broker);
                }
                Console.WriteLine();
            }
        }
        return 0;
    }

    private static Dictionary<string, string?> At(PrivateAmqp broker, int? port = null) => new()
    {
        ["Courier:Broker"] = (port is { } other
            ? new UriBuilder(broker.Address) { Port = other }.Uri.ToString().TrimEnd('/') : broker.Address)
            + "/?queue=/amq/queue/{queue}",
        ["Courier:Routes:bench.tap"] = "taps",
    };

    private static async Task FillAsync(PrivateAmqp broker, int events)
    {
        await using var workshop = new Workshop();
        var host = workshop.Host(courier => courier.UseAmqp(), At(broker));
        var port = host.Services.GetRequiredService<IBroker>();
        foreach (var chunk in Enumerable.Range(0, events).Chunk(1000))
        {
            await port.PublishAsync([.. chunk.Select(
                i => new EncodedEvent($"{i}", "bench.tap", null, Workshop.Json(i)) { Address = "taps" })]);
        }
    }

    private static Task<double> EmptyAsync(PrivateAmqp broker) => WorkAsync(broker, null, 0, 1000, async counter =>
    {
        // Until nothing more comes.
        for (var before = -1L; before != counter.Count;)
        {
            before = counter.Count;
            await Task.Delay(500);
        }
        return 0;
    });

    private static Task<double> ReceiveAsync(PrivateAmqp broker, int port, int handling, Prefetch prefetch) =>
        WorkAsync(broker, port, handling, prefetch, async counter =>
        {
            while (counter.Count == 0) await Task.Delay(1);
            // What tunes itself has a second to learn.
            await Task.Delay(1000);
            var (before, began) = (counter.Count, Stopwatch.GetTimestamp());
            await Task.Delay(Measured);
            return (counter.Count - before) / Stopwatch.GetElapsedTime(began).TotalSeconds;
        });

    private static async Task<double> WorkAsync(
        PrivateAmqp broker, int? port, int handling, Prefetch prefetch, Func<Counter, Task<double>> measure)
    {
        await using var workshop = new Workshop();
        var counter = new Counter { Wait = handling };
        var host = workshop.Host(
            courier => courier.UseAmqp().Receive("taps", queue =>
            {
                (queue.Options.Prefetch, queue.Options.Inbox) = (prefetch, false);
                queue.Handle<Tap, CountingReceiver>();
            }),
            At(broker, port), services => services.AddSingleton(counter));
        await host.StartAsync();
        var rate = await measure(counter);
        await host.StopAsync();
        return rate;
    }

    /// <summary>Passes on what comes, so much later; any amount may be on its way.</summary>
    private sealed class Distance : IDisposable
    {
        private readonly TcpListener listener = new(IPAddress.Loopback, 0);
        private readonly TimeSpan away;

        public Distance(int target, TimeSpan away)
        {
            this.away = away;
            listener.Start();
            _ = AcceptAsync(target);
        }

        public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

        public void Dispose() => listener.Dispose();

        private async Task AcceptAsync(int target)
        {
            try
            {
                while (true)
                {
                    var near = await listener.AcceptTcpClientAsync();
                    var far = new TcpClient();
                    await far.ConnectAsync(IPAddress.Loopback, target);
                    (near.NoDelay, far.NoDelay) = (true, true);
                    _ = PassAsync(near, far);
                    _ = PassAsync(far, near);
                }
            }
            catch (ObjectDisposedException)
            {
                // The end.
            }
        }

        private async Task PassAsync(TcpClient from, TcpClient to)
        {
            var under = Channel.CreateUnbounded<(long Due, byte[] Bytes)>();
            var passing = Task.Run(async () =>
            {
                await foreach (var (due, bytes) in under.Reader.ReadAllAsync())
                {
                    if (Stopwatch.GetElapsedTime(Stopwatch.GetTimestamp(), due) is var rest && rest > TimeSpan.Zero)
                        await Task.Delay(rest);
                    await to.GetStream().WriteAsync(bytes);
                }
                to.Close();
            });
            var buffer = new byte[65536];
            try
            {
                while (await from.GetStream().ReadAsync(buffer) is > 0 and var read)
                    under.Writer.TryWrite(
                        (Stopwatch.GetTimestamp() + (long)(away.TotalSeconds * Stopwatch.Frequency), buffer[..read]));
            }
            catch (IOException)
            {
                // The other side has gone.
            }
            under.Writer.Complete();
            await passing.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }
}
