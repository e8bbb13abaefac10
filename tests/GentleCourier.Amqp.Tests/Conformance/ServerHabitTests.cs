using System.Collections.Concurrent;
using System.Text;
using System.Text.Json.Nodes;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Servers;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Amqp.Tests.Conformance;

/// <summary>What operators declare, and what others send, on a real broker.</summary>
public sealed class ServerHabitTests
{
    /// <summary>At the broker's own queues, which somebody has declared.</summary>
    private sealed class DeclaredQuay : Quay
    {
        protected override string AddressOf(string name) => $"/amq/queue/{name}";

        public void Declare(string queue, string kind) =>
            SharedBroker.One.Create(Named(queue)["/amq/queue/".Length..], kind);
    }

    /// <summary>A broker in memory, which hands over what it was given byte for byte.</summary>
    private sealed class LegalQuay : Quay
    {
        public LegalPeer Peer { get; } = new(Enumerable.Range(1, 1000).First(
            seed => new Habits(seed) is { IsExact: true, IncomingWindow: >= 100, Credit: >= 10 }));

        protected override string Address => Peer.Address;

        protected override string AddressOf(string name) => name;

        protected override IReadOnlyDictionary<string, (int Ready, int InHand)> AskAll(string prefix) =>
            Peer.CountEach().Where(c => c.Key.StartsWith(prefix, StringComparison.Ordinal))
                .ToDictionary(c => c.Key[prefix.Length..], c => c.Value);

        public override async ValueTask DisposeAsync()
        {
            await base.DisposeAsync();
            await Peer.DisposeAsync();
        }
    }

    private static Task<IHost> StartFaresAsync(
        Crossing crossing, Log log, Action<ReceiverOptions>? limits = null) => crossing.StartAsync(
        "fares",
        courier => courier.Receive("taps", queue =>
        {
            limits?.Invoke(queue.Options);
            queue.Handle<Tap, TapReceiver>();
        }),
        services: services => services.AddSingleton(log));

    /// <summary>
    /// Whoever publishes to it, and looks at it, must not be its receiver for longer than a moment, whoever came first.
    /// </summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_queue_with_a_single_active_receiver_is_received(bool isJudged)
    {
        Quay quay = isJudged ? new KindQuay("single") : new DeclaredQuay();
        (quay as DeclaredQuay)?.Declare("taps", "single");
        await using var crossing = new Crossing(quay);
        var log = new Log();
        await using var looking = quay.Engine.CreateBroker(Crossing.Parse(quay.Broker), TimeProvider.System);
        Assert.True((await looking.Depths!.ReadDepthsAsync(["taps"]))[0] is 0 or null);
        var harbour = await crossing.StartAsync("harbour");
        for (var i = 0; i < 10; i++) await harbour.PublishAsync(new Tap(i));
        await Crossing.UntilAsync(() => Task.FromResult(quay.Ask("taps").Ready == 10), "all are in the queue");
        _ = await looking.Depths!.ReadDepthsAsync(["taps"]);

        var first = await StartFaresAsync(crossing, log);
        for (var i = 10; i < 100; i++) await harbour.PublishAsync(new Tap(i));
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 100), "all are handled");
        var second = await StartFaresAsync(crossing, log);
        await first.StopAsync();
        await harbour.PublishAsync(new Tap(100));
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 101), "the second has taken over");
        await second.StopAsync();
        Assert.Equal(Enumerable.Range(0, 101), log.Taps.Select(t => t.Data.Number));
    }

    /// <summary>What the protocol has no limit for, and memory has: it is a letter, and delays nobody.</summary>
    [Fact]
    public async Task A_message_that_is_too_large_to_be_held_is_set_aside_with_what_can_be_read_of_it()
    {
        var quay = new Quay();
        await using var crossing = new Crossing(quay);
        var log = new Log();
        await quay.SendAsync("taps", to =>
        {
            Properties.Shape.Write(to, new Properties { Subject = "a film", ContentType = "video/mp4" });
            Message.Begin(to, Section.ApplicationProperties);
            WireValue.Any.Write(to, new WireMap
            {
                { "cloudEvents_specversion", "1.0" }, { "cloudEvents_id", "film-1" }, { "cloudEvents_source", "/cam" },
                { "cloudEvents_type", "test.tap" }, { "camera", 7 },
            });
            Message.Begin(to, Section.Data);
            WireTypes.WriteBinary(to, new byte[17_000_000]);
        });
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 20).Select(i => Crossing.TapEvent(i))]);
        await StartFaresAsync(crossing, log);
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Equal(Enumerable.Range(0, 20), log.Taps.Select(t => t.Data.Number).Order());

        var letter = Assert.Single(await crossing.DeadLetters.ReadAsync("taps", 9));
        Assert.Matches("unreadable event: the message has 17,000,[0-9]{3} bytes, more than 16,777,216", letter.Reason);
        Assert.Equal("film-1", CourierEvent.Read(letter.Json).Id);
        var amqp = JsonNode.Parse(letter.Json.Span)!["amqp"]!;
        Assert.Equal(("a film", 7), ((string?)amqp["properties"]!["subject"],
            (int)amqp["application-properties"]!["camera"]!));
        Assert.InRange((int)amqp["size"]!, 17_000_000, 17_001_000);
        Assert.InRange(letter.Json.Length, 60_000, 100_000);
    }

    /// <summary>What is handed over again goes on in the companion, before the operator's count is full.</summary>
    [Fact]
    public async Task An_operators_limit_of_deliveries_takes_nothing_from_those_who_have_a_store()
    {
        var quay = new DeclaredQuay();
        SharedBroker.One.Create("dead", "queue");
        quay.Declare("taps", "limited");
        await using var crossing = new Crossing(quay);
        var handled = new ConcurrentQueue<int>();
        var log = new Log
        {
            OnTap = (delivery, _) =>
            {
                if (delivery.Attempt < 3 && delivery.Data.Number % 7 == 0)
                    throw new InvalidOperationException("not yet");
                handled.Enqueue(delivery.Data.Number);
                return Task.CompletedTask;
            },
        };
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 200).Select(i => Crossing.TapEvent(i))]);
        // Whoever stops gives back what it has not begun.
        for (var stops = 0; stops < 5; stops++)
        {
            var before = handled.Count;
            var fares = await StartFaresAsync(crossing, log, options => options.Prefetch = 50);
            await Crossing.UntilAsync(() => Task.FromResult(handled.Count > before), "some are handled");
            await fares.StopAsync();
        }
        await StartFaresAsync(crossing, log);
        await Crossing.UntilAsync(() => Task.FromResult(handled.Distinct().Count() == 200), "all are handled");
        await crossing.SettledAsync(deadLetters: 0);
        Assert.Equal(0, SharedBroker.One.Depth("dead"));
    }

    /// <summary>Before anybody has received, only those who publish know of a queue: their relays have written it down.
    /// </summary>
    [Fact]
    public async Task What_waits_in_a_queue_that_only_publishers_know_is_seen()
    {
        var quay = new Quay();
        await using var crossing = new Crossing(quay);
        var harbour = await crossing.StartAsync(
            "harbour",
            settings: new Dictionary<string, string?> { ["Courier:Routes:test.tide"] = "tides,/queue/other" });
        await harbour.PublishAsync(Enumerable.Range(0, 400).Select(n => new Tap(n)));
        var store = harbour.Store();
        await Crossing.UntilAsync(
            async () => (await store.ReadOutboxFiguresAsync()).Waiting == 0, "all is in the queue");

        var address = Crossing.Parse(quay.Store("harbour"));
        await using var view = quay.Engine.CreateBroker(Crossing.Parse(quay.Broker), TimeProvider.System).With(
            [new ServiceInView("harbour", quay.StoreEngine.CreateCompanion(address, TimeProvider.System),
                quay.StoreEngine.CreateStore(address, TimeProvider.System))]);
        var status = await CourierStatus.ReadAsync(view, [("harbour", store)], default);
        var taps = Assert.Single(status.Queues, q => q.Figures.Queue == "taps");
        Assert.Equal(400, taps.Figures.Ready);
        Assert.Equal(["test.tap"], taps.Figures.Types);
        var finding = Assert.Single(status.Findings);
        Assert.Equal(("queue-unreceived", "queue taps has 400 events waiting; nobody receives from it"),
            (finding.Code, finding.What));
        Assert.Contains("tides", (await view.Reports!.ReadTopologyAsync()).Queues);
        Assert.DoesNotContain("/queue/other", (await view.Reports!.ReadTopologyAsync()).Queues);
    }

    /// <summary>
    /// Of whatever a client in another language sends each is handled, or a letter that says whose it is; and it reads
    /// what we send.
    /// </summary>
    [Fact]
    public async Task Messages_of_every_kind_come_from_a_client_of_others_and_ours_go_to_it()
    {
        Assert.SkipUnless(
            Directory.Exists(Path.Combine(Path.GetDirectoryName(Script.Find("foreign.sh"))!, "foreign/node_modules")),
            "the client of others is not installed (eng/foreign.sh)");
        var quay = new LegalQuay();
        await using var crossing = new Crossing(quay);
        var log = new Log();
        await StartFaresAsync(crossing, log);
        var sent = await AskAsync("send", quay.Named("taps"));
        var (handled, letters) = (sent.Where(s => (string?)s["becomes"] == "handled").ToList(),
            sent.Where(s => (string?)s["becomes"] == "letter").ToList());
        Assert.True(handled.Count + letters.Count >= 34);
        await crossing.SettledAsync(deadLetters: letters.Count);
        Assert.Equal(
            handled.Select(h => $"{h["number"]} {h["name"]}").Order(),
            log.Taps.Select(t => $"{t.Data.Number} {sent[t.Data.Number]["name"]}").Order());
        Assert.All(await crossing.DeadLetters.ReadAsync("taps", 99), letter => Assert.NotEmpty(letter.Reason));

        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(new Charged(5));
        var ours = Assert.Single(await AskAsync("receive", quay.Named("charges"), "1"));
        Assert.Equal(
            ("application/json", true, "test.charged", """{"number":5}"""),
            ((string?)ours["type"], (bool)ours["durable"]!, (string?)ours["properties"]!["cloudEvents_type"],
                (string?)ours["body"]));

        async Task<List<JsonNode>> AskAsync(string what, string address, params string[] more)
        {
            using var client = Script.Open("foreign.sh",
                [what, "127.0.0.1", $"{new Uri(quay.Peer.Address).Port}", "-", "-", address, .. more]);
            var said = await client.StandardOutput.ReadToEndAsync().WaitAsync(Crossing.Limit);
            await client.WaitForExitAsync().WaitAsync(Crossing.Limit);
            Assert.True(client.ExitCode == 0, $"{said}\n{string.Join('\n', quay.Peer.Complaints)}");
            return [.. said.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => JsonNode.Parse(l)!)];
        }
    }

    /// <summary>Each in a session of its own, as some brokers need it; the looks in one.</summary>
    [Fact]
    public async Task A_thousand_queues_are_received_and_looked_at_by_one_process()
    {
        const int Queues = 1000;
        var quay = new Quay();
        await using var broker = quay.Engine.CreateBroker(Crossing.Parse(quay.Broker), TimeProvider.System);
        string[] queues = [.. Enumerable.Range(0, Queues).Select(n => $"one-of-many-{n}")];
        using var limit = new CancellationTokenSource(Crossing.Limit);
        foreach (var part in Enumerable.Range(0, Queues).Chunk(100))
            Assert.All(await broker.PublishAsync(
                [.. part.Select(n => Crossing.TapEvent(n) with { Address = queues[n] })], limit.Token),
                result => Assert.Equal(PublishFate.Taken, result.Fate));
        await DepthsAsync(1);

        var links = new List<IReceivingLink>();
        foreach (var queue in queues)
            links.Add(await broker.OpenLinkAsync(queue, "worker", TimeSpan.FromMinutes(1), limit.Token));
        var numbers = new List<int>();
        foreach (var link in links)
        {
            var come = await link.ReceiveAsync(1, limit.Token);
            numbers.Add(Crossing.NumberOf(Assert.Single(come).Json));
            await link.SettleAsync([new Settlement(come[0], Outcome.Accepted)], 0, limit.Token);
        }
        Assert.Equal(Enumerable.Range(0, Queues), numbers);
        await DepthsAsync(0);

        // What is not answered in time is unknown for a while.
        Task DepthsAsync(long each) => Crossing.UntilAsync(
            async () => (await broker.Depths!.ReadDepthsAsync(queues, limit.Token)).All(depth => depth == each),
            $"{each} waits in each queue");
    }
}
