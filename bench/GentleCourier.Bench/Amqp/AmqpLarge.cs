using System.Diagnostics;
using System.Globalization;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;
using GentleCourier.Amqp.Types;
using GentleCourier.Engines;
using GentleCourier.Servers;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Bench.Amqp;

[WireType("bench.film")]
internal sealed record Film(int Number, byte[] Reel);

/// <summary>Events of 1 MiB each, and how large the process becomes that receives them.</summary>
internal static class AmqpLarge
{
    private const int Ahead = 400, Part = 20;

    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(2);

    /// <summary>amqp-large [EVENTS]</summary>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 10_000;
        using var broker = new PrivateAmqp(Directory.CreateTempSubdirectory("courier-bench-server-").FullName);
        foreach (var prefetch in (Prefetch[])[20, Prefetch.Unlimited])
        {
            var queue = $"films-{prefetch}";
            broker.Create(queue);
            await MeasureAsync(broker, queue, prefetch, events);
        }
        return 0;
    }

    private static async Task MeasureAsync(PrivateAmqp broker, string queue, Prefetch prefetch, int events)
    {
        await using var workshop = new Workshop();
        var counter = new Counter();
        var host = workshop.Host(
            courier => courier.UseAmqp().Receive(queue, films =>
            {
                (films.Options.Prefetch, films.Options.Inbox) = (prefetch, false);
                films.Handle<Film, FilmReceiver>();
            }),
            new() { ["Courier:Broker"] = $"{broker.Address}/?queue=/amq/queue/{{queue}}" },
            services => services.AddSingleton(counter));
        // As much as it can wait for lies there before it begins.
        await using var sender = await Sender.OpenAsync(broker, queue);
        await sender.SendAsync(Ahead);
        var before = Environment.WorkingSet;
        await host.StartAsync();
        var began = Stopwatch.GetTimestamp();
        var (early, largest) = (0L, 0L);
        for (var sent = Ahead; counter.Count < events;)
        {
            if (sent < events && sent - counter.Count < Ahead)
            {
                await sender.SendAsync(Part);
                sent += Part;
            }
            else
            {
                await Task.Delay(1);
            }
            largest = Math.Max(largest, Environment.WorkingSet);
            if (counter.Count <= events / 10) early = largest;
        }
        var rate = events / Stopwatch.GetElapsedTime(began).TotalSeconds;
        await host.StopAsync();
        Console.WriteLine(
            $"{events:N0} events of 1 MiB, prefetch {prefetch}: {rate:N0} a second; working set {before >> 20:N0} MiB "
            + $"before, {early >> 20:N0} MiB at the most in the first tenth, {largest >> 20:N0} MiB in all");
    }

    private sealed class FilmReceiver(Counter counter) : IReceiver<Film>
    {
        public Task HandleAsync(Delivery<Film> delivery, CancellationToken cancellationToken)
        {
            counter.Add();
            return Task.CompletedTask;
        }
    }

    /// <summary>Sends one and the same body again and again, so that it takes no memory of its own.</summary>
    private sealed class Sender(Connection connection, SendingLink link) : IAsyncDisposable
    {
        private static readonly byte[] Body = Write();
        private int sent;

        public static async Task<Sender> OpenAsync(PrivateAmqp broker, string queue)
        {
            var address = EngineAddress.TryParse(broker.Address, out var parsed)
                ? AmqpAddress.Parse(parsed) : throw new FormatException(broker.Address);
            var (connection, _) = await Reach.AnyAsync(
                address, 0, host => new() { Peer = $"{host}", ContainerId = "bench" }, default);
            var session = await connection.BeginSessionAsync(default);
            return new(connection, await session.AttachSenderAsync("out", $"/amq/queue/{queue}", default));
        }

        public async Task SendAsync(int count)
        {
            foreach (var part in Enumerable.Range(sent, count).Chunk(Part))
            {
                var outcome = await link.SendAsync(part, static (n, to) => WriteTo(n, to), Limit, default);
                if (outcome.WhyNot is not null) throw outcome.WhyNot;
            }
            sent += count;
        }

        public ValueTask DisposeAsync() => connection.DisposeAsync();

        private static void WriteTo(int number, WireBuffer to)
        {
            Properties.Shape.Write(to, new Properties { ContentType = "application/json" });
            Message.Begin(to, Section.ApplicationProperties);
            WireValue.Any.Write(to, new WireMap
            {
                { "cloudEvents_specversion", "1.0" }, { "cloudEvents_id", $"film-{number}" },
                { "cloudEvents_source", "/bench" }, { "cloudEvents_type", "bench.film" },
            });
            Message.Begin(to, Section.Data);
            WireTypes.WriteBinary(to, Body);
        }

        private static byte[] Write() =>
            System.Text.Json.JsonSerializer.SerializeToUtf8Bytes(
                new Film(1, new byte[(1024 * 1024 * 3 / 4) - 100]), System.Text.Json.JsonSerializerOptions.Web);
    }
}
