using System.Collections.Concurrent;
using System.Text.Json.Nodes;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Amqp.Tests.Conformance;

/// <summary>Queues of another implementation of AMQP 1.0, which takes the broker's place.</summary>
public class JudgedQuay : Quay
{
    protected override string Address => Judge.Address;

    protected override string AddressOf(string name) => name;

    protected override IReadOnlyDictionary<string, (int Ready, int InHand)> AskAll(string prefix) =>
        Judge.Count().Where(c => c.Key.StartsWith(prefix, StringComparison.Ordinal))
            .ToDictionary(c => c.Key[prefix.Length..], c => (c.Value[0], c.Value[1]));

    private protected override IBroker Open(TimeProvider clock) => new Mute(base.Open(clock));

    /// <summary>One that is not asked how many wait: the judge would not say, which takes its time.</summary>
    private sealed class Mute(IBroker inner) : BrokerInFront(inner)
    {
        public override BrokerServices Services => Inner.Services with { Depths = null };
    }
}

/// <summary>At queues of a kind that the judge treats in its own way.</summary>
public sealed class KindQuay(string kind) : JudgedQuay
{
    protected override string AddressOf(string name) => $"{kind}/{name}";

    protected override IReadOnlyDictionary<string, (int Ready, int InHand)> AskAll(string prefix) =>
        base.AskAll(AddressOf(prefix));
}

public sealed class JudgedBatchTests : BatchScenarios<JudgedQuay>;

public sealed class JudgedCompetingTests : CompetingScenarios<JudgedQuay>;

public sealed class JudgedFailureTests : FailureScenarios<JudgedQuay>;

public sealed class JudgedOutcomeTests : OutcomeScenarios<JudgedQuay>;

public sealed class JudgedReceiverTests : ReceiverScenarios<JudgedQuay>;

public sealed class JudgedStandstillTests : StandstillScenarios<JudgedQuay>;

public sealed class JudgedTextTests : TextScenarios<JudgedQuay>;

/// <summary>Between a service and another implementation.</summary>
public sealed class JudgedServiceTests
{
    private static readonly JsonObject Sent = new()
    {
        ["properties"] = new JsonObject
        {
            ["cloudEvents:specversion"] = "1.0", ["cloudEvents:id"] = "one", ["cloudEvents:source"] = "/judge",
            ["cloudEvents:type"] = "test.tap",
        },
        ["type"] = "application/json", ["body"] = """{"number":7}""",
    };

    [Fact]
    public async Task A_service_handles_what_another_client_sends_and_publishes_what_that_can_read()
    {
        var quay = new JudgedQuay();
        await using var crossing = new Crossing(quay);
        var log = new Log();
        await crossing.StartAsync(
            "fares", courier => courier.Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
            services: services => services.AddSingleton(log));
        Assert.Equal(["accepted"], Judge.Send(quay.Named("taps"), Sent.ToJsonString()));
        await Crossing.UntilAsync(() => Task.FromResult(!log.Taps.IsEmpty), "the tap is handled");
        var handled = Assert.Single(log.Taps);
        Assert.Equal(("/judge", "one", 7), (handled.Event.Source, handled.Event.Id, handled.Data.Number));

        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(new Charged(5));
        var read = JsonNode.Parse(Assert.Single(Judge.Receive(quay.Named("charges"), 1)))!;
        Assert.Equal(
            ("test.charged", "/test/harbour", """{"number":5}"""),
            ((string?)read["properties"]!["cloudEvents_type"], (string?)read["properties"]!["cloudEvents_source"],
                (string?)read["body"]));
    }

    /// <summary>So is its credit for those who send: one, again and again.</summary>
    [Fact]
    public async Task One_that_gives_a_message_at_a_time_whatever_it_is_asked_for_is_slow_and_no_more()
    {
        var quay = new KindQuay("frugal");
        await using var crossing = new Crossing(quay);
        var handled = new ConcurrentQueue<int>();
        var log = new Log
        {
            OnTap = (delivery, _) =>
            {
                if (delivery.Attempt == 1 && delivery.Data.Number % 7 == 0)
                    throw new RetryException(TimeSpan.FromMilliseconds(1), "not yet");
                handled.Enqueue(delivery.Data.Number);
                return Task.CompletedTask;
            },
        };
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(Enumerable.Range(0, 60).Select(n => new Tap(n)));
        for (var workers = 0; workers < 2; workers++)
            await crossing.StartAsync(
                "fares", courier => courier.Receive("taps", queue =>
                {
                    (queue.Options.Prefetch, queue.Options.Parallel) = (50, 4);
                    queue.Handle<Tap, TapReceiver>();
                }),
                services: services => services.AddSingleton(log));
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 60), handled.Order());
    }

    /// <summary>
    /// Whoever sends may say how long it is worth anything; what we send is worth something for ever.
    /// </summary>
    [Fact]
    public async Task What_others_have_sent_with_a_time_to_live_may_go_and_what_we_send_does_not()
    {
        var quay = new JudgedQuay();
        await using var crossing = new Crossing(quay);
        var harbour = await crossing.StartAsync("harbour");
        for (var n = 0; n < 10; n++) await harbour.PublishAsync(new Tap(n));
        var store = harbour.Store();
        await Crossing.UntilAsync(async () => (await store.ReadOutboxFiguresAsync()).Waiting == 0, "all have left");
        Judge.Send(quay.Named("taps"), [.. Enumerable.Range(10, 20).Select(Foreign)]);

        var log = new Log();
        await crossing.StartAsync(
            "fares", courier => courier.Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
            services: services => services.AddSingleton(log));
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 20), log.Taps.Select(t => t.Data.Number).Order());
        Assert.Equal([10, 0], Judge.Count()["expired/" + quay.Named("taps")]);

        // Of the later half the time is over before it is looked at.
        static string Foreign(int n)
        {
            var message = Sent.DeepClone();
            (message["properties"]!["cloudEvents:id"], message["body"]) = ($"tap-{n}", $$"""{"number":{{n}}}""");
            if (n >= 20) message["ttl"] = 0.001;
            return message.ToJsonString();
        }
    }

    [Fact]
    public async Task How_many_wait_at_one_that_does_not_say_is_unknown_and_not_0()
    {
        await using var crossing = new Crossing(new JudgedQuay());
        var fares = await crossing.StartAsync(
            "fares", courier => courier.Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
            services: services => services.AddSingleton(new Log()));
        var status = await fares.Services.GetRequiredService<ICourierStatus>().ReadAsync();
        Assert.Equal((null, null), (status.Broker!.Queues.Single().Ready, status.Broker.Queues.Single().Waiting));
    }
}
