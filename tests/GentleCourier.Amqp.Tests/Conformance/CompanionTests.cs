using System.Collections.Concurrent;
using System.Text.Json.Nodes;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;
using GentleCourier.ByHand;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Amqp.Tests.Conformance;

/// <summary>What a broker cannot do, the receiving store's companion does.</summary>
public sealed class CompanionTests
{
    private static Task<IHost> StartFaresAsync(
        Crossing crossing, Log log, Action<ReceiverOptions>? limits = null,
        Dictionary<string, string?>? settings = null) => crossing.StartAsync(
        "fares",
        courier => courier.Receive("taps", queue =>
        {
            (queue.Options.FirstDelay, queue.Options.MaxDelay) =
                (TimeSpan.FromMilliseconds(1), TimeSpan.FromMilliseconds(10));
            limits?.Invoke(queue.Options);
            queue.Handle<Tap, TapReceiver>();
        }),
        settings,
        services => services.AddSingleton(log));

    [Fact]
    public async Task What_others_send_that_is_no_event_is_set_aside_with_what_is_wrong_and_delays_nobody()
    {
        var quay = new Quay();
        await using var crossing = new Crossing(quay);
        var log = new Log();
        await StartFaresAsync(crossing, log);
        await quay.SendAsync("taps", to =>
        {
            Properties.Shape.Write(to, new Properties { ContentType = "text/csv" });
            Message.Begin(to, Section.Data);
            WireTypes.WriteBinary(to, "Longsand;0417"u8);
        });
        await quay.SendAsync("taps", to =>
        {
            Properties.Shape.Write(to, new Properties { ContentType = "application/cloudevents+xml" });
            Message.Begin(to, Section.Data);
            WireTypes.WriteBinary(to, "<event/>"u8);
        });
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        await crossing.SettledAsync(deadLetters: 2);
        Assert.Equal(1, Assert.Single(log.Taps).Data.Number);
        var letters = await crossing.DeadLetters.ReadAsync("taps", 9, oldestFirst: true);
        Assert.StartsWith("unreadable event: it has no attributes of a CloudEvents event", letters[0].Reason,
            StringComparison.Ordinal);
        Assert.Equal("Longsand;0417", (string?)JsonNode.Parse(letters[0].Json.Span)!["data"]);
        Assert.Equal("unreadable event: its content-type is 'application/cloudevents+xml': only "
            + "application/cloudevents+json can be read", letters[1].Reason);
    }

    [Fact]
    public async Task What_was_handled_at_once_and_what_was_taken_over_is_counted_together()
    {
        await using var crossing = new Crossing(new Quay());
        var log = new Log
        {
            OnTap = (d, _) => d.Data.Number < 3 && d.Attempt == 1 ? throw new InvalidOperationException("once")
                : d.Data.Number == 3 ? throw new RejectException("no such pier") : Task.CompletedTask,
        };
        var fares = await StartFaresAsync(crossing, log);
        // What waited before anybody looked, and was taken over then, is made up for only by what comes later.
        await crossing.Broker().PublishAsync([Crossing.TapEvent(49)]);
        await crossing.SettledAsync();
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 49).Select(i => Crossing.TapEvent(i))]);
        await crossing.SettledAsync(deadLetters: 1);
        await fares.StopAsync();
        var counts = (await crossing.FiguresAsync("taps")).History[^1];
        Assert.Equal((50, 49, 3, 1), (counts.Came, counts.Accepted, counts.Failed, counts.SetAside));
        Assert.Equal(53, log.Taps.Count);
    }

    /// <summary>However many wait at the broker: they wait for what has failed, here.</summary>
    [Fact]
    public async Task What_was_taken_over_is_handled_while_the_broker_has_more_and_more()
    {
        await using var crossing = new Crossing(new Quay());
        var again = new TaskCompletionSource();
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                if (delivery.Data.Number == 0 && delivery.Attempt == 1) throw new InvalidOperationException("once");
                if (delivery.Data.Number == 0) again.SetResult();
                if (!again.Task.IsCompleted) await Task.Delay(5, cancel);
            },
        };
        await crossing.RouteAsync(("test.tap", "taps"));
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 300).Select(i => Crossing.TapEvent(i))]);
        await StartFaresAsync(crossing, log, limits => (limits.Prefetch, limits.Parallel) = (20, 2));
        await crossing.SettledAsync();
        // It need not be the last.
        Assert.InRange(log.Taps.ToList().FindIndex(t => t is { Data.Number: 0, Attempt: 2 }), 1, 299);
    }

    [Fact]
    public async Task A_letter_is_sent_back_and_handled_by_those_who_receive()
    {
        await using var crossing = new Crossing(new Quay());
        var isMended = false;
        var log = new Log { OnTap = (_, _) => isMended ? Task.CompletedTask : throw new RejectException("no") };
        await StartFaresAsync(crossing, log);
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        await crossing.SettledAsync(deadLetters: 1);
        isMended = true;
        var letter = Assert.Single(await crossing.DeadLetters.ReadAsync(null, 9));
        Assert.Equal([true], await crossing.DeadLetters.SendBackAsync([new LetterReturn(letter)]));
        await crossing.SettledAsync(deadLetters: 0);
        Assert.Equal([1, 1], log.Taps.Select(t => t.Data.Number));
    }

    [Fact]
    public async Task How_many_wait_is_what_the_broker_itself_says_and_of_a_queue_that_is_not_there_unknown()
    {
        var quay = new Quay();
        await using var crossing = new Crossing(quay);
        await using var broker = quay.Engine.CreateBroker(Crossing.Parse(quay.Broker), TimeProvider.System);
        foreach (var count in new[] { 0, 1, 700 })
        {
            await crossing.Broker().PublishAsync([.. Enumerable.Range(0, count).Select(i => Crossing.TapEvent(i))]);
            Assert.Equal([quay.Ask("taps").Ready], await broker.Depths!.ReadDepthsAsync(["taps"]));
        }
        await using (var link = await broker.OpenLinkAsync("taps", "w", TimeSpan.FromMinutes(1)))
        {
            var taken = await link.ReceiveAsync(5, CancellationToken.None).WaitAsync(Crossing.Limit);
            await link.SettleAsync([.. taken.Select(t => new Settlement(t, Outcome.Accepted))], 0, default);
            // The broker may have sent more than it was asked for.
            link.Withdraw();
            await Crossing.UntilAsync(
                async () => quay.Ask("taps") is (> 690, 0) and var (ready, _)
                    && (await broker.Depths!.ReadDepthsAsync(["taps"]))[0] == ready, "both say the same");
        }
        await using var strict = quay.Engine.CreateBroker(
            Crossing.Parse($"{SharedBroker.One.Address}/?queue=/amq/queue/{{queue}}"), TimeProvider.System);
        Assert.Equal([null], await strict.Depths!.ReadDepthsAsync(["nobody-made-it"]));
        var error = await Assert.ThrowsAsync<CourierException>(
            () => strict.PrepareAsync(new Topology(["nobody-made-it"], []), create: true));
        Assert.StartsWith("queue 'nobody-made-it' ('/amq/queue/nobody-made-it') does not exist in amqp://courier@",
            error.Message, StringComparison.Ordinal);
    }

    /// <summary>Its queues survive; what was on its way comes again, and acts once.</summary>
    [Fact]
    public async Task A_broker_that_is_killed_under_load_loses_and_doubles_nothing()
    {
        using var server = SharedBroker.Start();
        server.Create("taps");
        await using var crossing = new Crossing(new Quay());
        var done = new ConcurrentQueue<int>();
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                await (await delivery.BeginAsync(cancel)).Connection!.ExecuteAsync(
                    "INSERT INTO charge VALUES (@n)", ("@n", delivery.Data.Number));
                done.Enqueue(delivery.Data.Number);
            },
        };
        var store = crossing.Store("fares");
        await store.PrepareAsync(create: true);
        await using (var connection = await store.OpenConnectionAsync())
            await connection.ExecuteAsync("CREATE TABLE charge (number INTEGER)");
        var at = new Dictionary<string, string?>
        {
            ["Courier:Broker"] = $"{server.Address}/?queue=/amq/queue/{{queue}}",
        };
        await StartFaresAsync(crossing, log, limits => limits.Parallel = 2, at);
        var harbour = await crossing.StartAsync("harbour", settings: at);
        var publishing = Task.Run(async () =>
        {
            for (var i = 0; i < 2000; i += 20)
                await harbour.PublishAsync(Enumerable.Range(i, 20).Select(n => new Tap(n)));
        });
        await Crossing.UntilAsync(() => Task.FromResult(done.Count > 200), "some are handled");
        await Task.Run(() =>
        {
            server.Stop(immediately: true);
            server.Start();
        });
        await publishing;
        await Crossing.UntilAsync(() => Task.FromResult(done.Distinct().Count() == 2000), "all are handled");
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Waiting == 0 && server.Depth("taps") == 0,
            "nothing is left");
        Assert.Equal(
            Enumerable.Range(0, 2000), (await Crossing.NumbersAsync(store, "SELECT number FROM charge")).Order());
        Assert.Empty(await crossing.DeadLetters.ReadAsync(null, 9));
    }
}
