using GentleCourier.ByHand;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>
/// What receivers are promised by brokers of this library alone, with leases and with all that they tell.
/// </summary>
public abstract class OwnBrokerScenarios<TPlace> where TPlace : Place, new()
{
    private static Task<IHost> StartFaresAsync(Crossing crossing, Log log, Action<ReceiverOptions>? limits = null,
        Dictionary<string, string?>? settings = null, TimeProvider? clock = null) => crossing.StartAsync(
        "fares",
        courier => courier.Receive("taps", queue =>
        {
            limits?.Invoke(queue.Options);
            queue.Handle<Tap, TapReceiver>();
        }),
        settings,
        services =>
        {
            services.AddSingleton(log);
            if (clock is not null) services.AddSingleton(clock);
        });

    [Fact]
    public async Task A_worker_that_has_lost_a_lease_is_told_and_changes_nothing()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var slow = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var (begun, cancelled) = (new TaskCompletionSource(), new TaskCompletionSource());
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                if (delivery.Data.Number > 1) return;
                await (await delivery.BeginAsync(cancel))
                    .Connection!.ExecuteAsync("CREATE TABLE half_done (number INTEGER)");
                begun.SetResult();
                try
                {
                    await Task.Delay(Timeout.Infinite, cancel);
                }
                finally
                {
                    cancelled.SetResult();
                }
            },
        };
        await StartFaresAsync(crossing, log, limits => limits.Prefetch = 1, clock: slow);
        var broker = crossing.AnotherBroker(slow);
        await broker.PublishAsync([Crossing.TapEvent(1)]);
        await begun.Task.WaitAsync(Crossing.Limit);

        // For the others its lease has run out, while it slept.
        await using var link = await crossing.AnotherBroker(new FakeTimeProvider(DateTimeOffset.UtcNow.AddMinutes(1)))
            .OpenLinkAsync("taps", "other", TimeSpan.FromSeconds(30));
        var taken = Assert.Single(await link.ReceiveAsync(1, CancellationToken.None).WaitAsync(Crossing.Limit));
        Assert.Equal((2, 1), (taken.Attempt, taken.Abandoned));

        await Crossing.UntilAsync(
            slow, TimeSpan.FromSeconds(5),
            () => Task.FromResult(cancelled.Task.IsCompleted),
            "its token is cancelled");
        Assert.Equal([true], await link.SettledAsync([new Settlement(taken, Outcome.Accepted)]));
        Assert.False(await crossing.Store("fares").HasTableAsync("half_done"));
        Assert.Empty(await crossing.Store("fares").Inbox.ReadAsync("taps"));

        // And it goes on with what comes.
        await broker.PublishAsync([Crossing.TapEvent(2)]);
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 2), "the next is handled");
    }

    [Theory]
    [InlineData("""{"specversion":"1.0","id":"x","source":"/t","type":"test.tap","data":{"number":"seven"} }""",
        "unreadable body: test.tap, field 'number'")]
    [InlineData("""{"specversion":"1.0","id":"x","source":"/t","type":"test.tap","data":{"pier":"Longsand"} }""",
        "missing required properties including: 'number'")]
    [InlineData("""{"specversion":"1.0","id":"x","source":"/t","type":"test.tap","data":{"number":1,"pier":null} }""",
        "unreadable body: test.tap, field 'pier'")]
    [InlineData("""{"specversion":"1.0","id":"x","source":"/t","type":"test.tap"}""", "the event has no data")]
    [InlineData(
        """{"specversion":"1.0","id":"x","source":"/t","type":"test.tap","datacontenttype":"text/csv",""" + "\n"
        + """ "data":"1;Longsand"}""",
        "the body is 'text/csv', not JSON")]
    [InlineData("""{"specversion":"1.0","id":"","source":"/t","type":"test.tap","data":{} }""",
        "the CloudEvents attribute 'id' is missing or empty")]
    [InlineData("""{"specversion":"2.0","id":"x","source":"/t","type":"test.tap","data":{} }""",
        "'specversion' must be \"1.0\", but is \"2.0\"")]
    [InlineData("""[1,2]""", "not an object")]
    [InlineData("Longsand;0417;06:12", "the body is not JSON")]
    [InlineData("", "the body is not JSON")]
    public async Task What_cannot_be_read_is_set_aside_at_once_with_a_reason(string json, string reason)
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log();
        await StartFaresAsync(crossing, log);
        var bytes = System.Text.Encoding.UTF8.GetBytes(json);
        await crossing.Broker().PublishAsync([new EncodedEvent("x", "test.tap", null, bytes)]);

        await crossing.SettledAsync(deadLetters: 1);
        var letter = Assert.Single(await crossing.DeadLetters.ReadAsync("taps", 10));
        Assert.Equal(1, letter.Attempts);
        Assert.Contains(reason, letter.Reason, StringComparison.Ordinal);
        Assert.Equal(bytes, letter.Json.ToArray());
        Assert.Empty(log.Taps);
    }

    [Fact]
    public async Task A_worker_killed_between_commit_and_settling_of_its_last_attempt_leaves_no_dead_letter()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var broker = crossing.Broker();
        var store = crossing.Store("fares");
        await store.PrepareAsync(create: true);
        await (await crossing.StartAsync("harbour")).PublishAsync(EventDraft.Of(new Tap(1), new() { Id = "one" }));
        await using (var link = await broker.OpenLinkAsync("taps", "doomed", TimeSpan.FromSeconds(1)))
        {
            Assert.Single(await link.ReceiveAsync(1, CancellationToken.None).WaitAsync(Crossing.Limit));
            await using var handling = await store.BeginHandlingAsync("taps", [new InboxEvent("/test/harbour", "one")]);
            await handling!.CommitAsync([]);
        }

        await StartFaresAsync(crossing, new Log(), limits => limits.MaxAttempts = 1);
        await crossing.SettledAsync(deadLetters: 0);
        Assert.Equal(2, Assert.Single(await store.Inbox.ReadAsync("taps")).Copies);
    }

    [Fact]
    public async Task A_lease_is_renewed_for_as_long_as_the_handler_runs()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var finish = new TaskCompletionSource();
        var log = new Log { OnTap = (_, _) => finish.Task };
        await crossing.RouteAsync(("test.tap", "taps"));
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(log).AddSingleton<TimeProvider>(clock));
        var broker = crossing.AnotherBroker(clock);
        await broker.PublishAsync([new EncodedEvent("1", "test.tap", null, """
            {"specversion":"1.0","id":"1","source":"/t","type":"test.tap","data":{"number":1} }
            """u8.ToArray())]);
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 1), "it is in hand");

        // Far beyond the lease of 30 s, half of it at a time: each time it is begun anew before the rest is over.
        for (var i = 0; i < 6; i++)
        {
            clock.Advance(TimeSpan.FromSeconds(15));
            var due = clock.GetUtcNow().AddSeconds(29);
            await Crossing.UntilAsync(
                async () => (await broker.Reports!.PeekAsync("taps", 1))[0].Until >= due, "the lease is renewed");
        }
        var held = Assert.Single(await broker.Reports!.PeekAsync("taps", 10));
        Assert.Equal((QueuedState.InHand, 1), (held.State, held.Attempts));
        finish.SetResult();
        await Crossing.UntilAsync(
            async () => (await broker.Reports!.PeekAsync("taps", 10)).Count == 0, "it is settled");
        Assert.Single(log.Taps);
    }

    [Fact]
    public async Task A_queue_that_must_exist_and_does_not_stops_the_host()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "others"));
        await crossing.Store("fares").PrepareAsync(create: true);
        var error = await Assert.ThrowsAsync<CourierException>(
            () => StartFaresAsync(crossing, new Log(), settings: new() { ["Courier:CreateMissing"] = "false" }));
        Assert.Contains("queue 'taps' does not exist", error.Message, StringComparison.Ordinal);
        Assert.Contains("--queue taps --route test.tap=taps", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Three_workers_share_a_backlog_and_two_finish_what_the_third_held_when_it_was_killed()
    {
        await using var crossing = new Crossing(new TPlace());
        await CrashScenarios<TPlace>.PublishMarksAsync(crossing, 60);
        using (var doomed = new Rig(crossing, "receive", "fares", $"Rig:Fault={FaultPoint.HandedOverNotHandled}"))
            Assert.Equal(Rig.Killed, await doomed.EndsAsync());
        var held = (int)(await crossing.FiguresAsync("marks")).InHand!.Value;
        Assert.InRange(held, 1, 20);

        // None of theirs runs out, however slow the machine is.
        const string Lease = "Courier:Receivers:marks:Lease=00:05:00";
        using var second = new Rig(crossing, "receive", "fares", Lease);
        using var third = new Rig(crossing, "receive", "fares", Lease);
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("marks") is { Ready: 0, InHand: 0 }, "the others have finished it");
        var marks = await Crossing.NumbersAsync(crossing.SharedStore("fares"), "SELECT number FROM mark ORDER BY 1");
        Assert.Equal(Enumerable.Range(0, 60), marks);
        var attempts = await Crossing.NumbersAsync(
            crossing.SharedStore("fares"), "SELECT attempt FROM mark ORDER BY number");
        Assert.Equal(Enumerable.Repeat(2, held).Concat(Enumerable.Repeat(1, 60 - held)), attempts);
    }
}
