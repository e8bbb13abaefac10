using System.Collections.Concurrent;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>What receivers are promised, on a broker that can do nothing of it.</summary>
public abstract class PushingScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly Dictionary<string, string?> AtThePeer = new() { ["Courier:Broker"] = "push:peer" };

    private static Task<IHost> StartFaresAsync(Crossing crossing, PushingEngine peer, Log log,
        Action<ReceiverOptions>? limits = null, Dictionary<string, string?>? settings = null,
        TimeProvider? clock = null) =>
        crossing.StartAsync(
            "fares",
            courier => courier.AddEngine(peer).Receive("taps", queue =>
            {
                limits?.Invoke(queue.Options);
                queue.Handle<Tap, TapReceiver>();
            }),
            settings ?? AtThePeer,
            services =>
            {
                services.AddSingleton(log);
                if (clock is not null) services.AddSingleton(clock);
            });

    private static Task UntilEmptyAsync(PushingEngine peer) =>
        Crossing.UntilAsync(() => Task.FromResult(peer.Depth("taps") == 0), "the queue is empty");

    [Fact]
    public async Task Events_travel_from_an_outbox_to_a_receiver_once_each()
    {
        await using var crossing = new Crossing(new TPlace());
        var (peer, log) = (new PushingEngine(), new Log());
        await StartFaresAsync(crossing, peer, log, limits => limits.Parallel = 4);
        var harbour = await crossing.StartAsync("harbour", c => c.AddEngine(peer), AtThePeer);
        await harbour.PublishAsync(Enumerable.Range(0, 500).Select(i => new Tap(i)));
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 500), "all have come");
        await UntilEmptyAsync(peer);
        Assert.Equal(Enumerable.Range(0, 500), log.Taps.Select(t => t.Data.Number).Order());
    }

    [Fact]
    public async Task A_failed_event_waits_in_the_worker_counts_its_attempts_and_is_kept_by_the_store_at_last()
    {
        await using var crossing = new Crossing(new TPlace());
        var (peer, clock) = (new PushingEngine(), new FakeTimeProvider(DateTimeOffset.UtcNow));
        var log = new Log { OnTap = (d, _) => d.Data.Number == 1 ? throw new InvalidOperationException(
            "no fare for this pier") : Task.CompletedTask };
        var fares = await StartFaresAsync(
            crossing, peer, log,
            limits => (limits.Prefetch, limits.MaxAttempts, limits.RetriesAtOnce, limits.FirstDelay,
                limits.LongestDelay) = (1, 3, 0, TimeSpan.FromHours(1), TimeSpan.FromHours(1)),
            clock: clock);
        var broker = fares.Services.GetRequiredService<IBroker>();
        await broker.PublishAsync([.. Enumerable.Range(1, 5).Select(i => Crossing.TapEvent(i))]);

        // It keeps nobody waiting, though only one may be held.
        await Crossing.UntilAsync(
            () => Task.FromResult(log.Taps.Count == 5 && peer.Depth("taps") == 1), "all others are handled");
        await Crossing.UntilAsync(
            async () =>
            {
                clock.Advance(TimeSpan.FromMinutes(10));
                return (await fares.Store().ReadSetAsideAsync("taps", 10)).Count == 1;
            },
            "it is set aside");
        await UntilEmptyAsync(peer);
        Assert.Equal([1, 2, 3], log.Taps.Where(t => t.Data.Number == 1).Select(t => t.Attempt));
        Assert.Empty(peer.Discarded);
        var letter = Assert.Single(await fares.Store().ReadSetAsideAsync(null, 10));
        Assert.Equal(("taps", 3, null, "System.InvalidOperationException"),
            (letter.Queue, letter.Attempts, letter.Arrived, letter.Failure!.Exception));
        Assert.StartsWith("failed all 3 attempts; the last with", letter.Reason, StringComparison.Ordinal);
        Assert.Equal(1, Crossing.NumberOf(letter.Json));
        Assert.Empty(await fares.Store().ReadSetAsideAsync("others", 10));
    }

    [Fact]
    public async Task What_is_kept_twice_is_one_letter()
    {
        await using var crossing = new Crossing(new TPlace());
        var peer = new PushingEngine();
        var log = new Log { OnTap = (_, _) => throw new RejectException("no such pier") };
        var fares = await StartFaresAsync(crossing, peer, log);
        var broker = fares.Services.GetRequiredService<IBroker>();
        await broker.PublishAsync([Crossing.TapEvent(1)]);
        await UntilEmptyAsync(peer);
        await broker.PublishAsync([Crossing.TapEvent(1), Crossing.TapEvent(2)]);
        await UntilEmptyAsync(peer);
        Assert.Equal([1, 2],
            (await fares.Store().ReadSetAsideAsync("taps", 10)).Select(l => Crossing.NumberOf(l.Json)).Order());
    }

    /// <summary>Without an inbox nothing else would keep the handler from acting twice.</summary>
    [Fact]
    public async Task An_event_that_comes_again_while_its_handler_runs_waits_for_it_and_shares_its_outcome()
    {
        await using var crossing = new Crossing(new TPlace());
        var peer = new PushingEngine();
        var finish = new TaskCompletionSource();
        var done = new ConcurrentQueue<int>();
        var log = new Log
        {
            OnTap = async (delivery, _) =>
            {
                if (delivery.Data.Number == 0) await finish.Task;
                done.Enqueue(delivery.Data.Number);
            },
        };
        var fares = await StartFaresAsync(crossing, peer, log,
            limits => (limits.Inbox, limits.Parallel, limits.Prefetch) = (false, 2, 4));
        var broker = fares.Services.GetRequiredService<IBroker>();
        await broker.PublishAsync([Crossing.TapEvent(0)]);
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 1), "it has begun");

        for (var cut = 1; cut <= 3; cut++)
        {
            peer.Cut();
            await broker.PublishAsync([Crossing.TapEvent(cut)]);
            var handled = cut;
            await Crossing.UntilAsync(
                () => Task.FromResult(done.Count == handled && peer.Depth("taps") == 1), "the other is settled");
        }
        Assert.Equal(4, peer.Opened);
        finish.SetResult();
        await UntilEmptyAsync(peer);
        Assert.Equal([1, 2, 3, 0], done);
    }

    [Fact]
    public async Task Links_that_are_cut_all_the_time_lose_nothing_and_repeat_nothing()
    {
        await using var crossing = new Crossing(new TPlace());
        var peer = new PushingEngine();
        var log = new Log
        {
            OnTap = async (delivery, cancel) => await (await delivery.BeginAsync(cancel)).Connection!.ExecuteAsync(
                "INSERT INTO charge VALUES (@n)", ("@n", delivery.Data.Number)),
        };
        var store = crossing.Store("fares");
        await store.PrepareAsync(create: true);
        await using (var connection = await store.OpenConnectionAsync())
            await connection.ExecuteAsync("CREATE TABLE charge (number INTEGER)");
        var fares = await StartFaresAsync(crossing, peer, log, limits => limits.Parallel = 3);
        await fares.Services.GetRequiredService<IBroker>().PublishAsync(
            [.. Enumerable.Range(0, 300).Select(i => Crossing.TapEvent(i))]);
        for (var cut = 1; cut <= 10; cut++)
        {
            var due = Math.Min(cut * 20, 300);
            await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count >= due), "some are handled");
            peer.Cut();
        }
        await UntilEmptyAsync(peer);
        Assert.Equal(
            Enumerable.Range(0, 300), (await Crossing.NumbersAsync(store, "SELECT number FROM charge")).Order());
    }

    [Fact]
    public async Task A_stop_gives_back_what_waits_for_its_next_attempt()
    {
        await using var crossing = new Crossing(new TPlace());
        var peer = new PushingEngine();
        var log = new Log { OnTap = (_, _) => throw new RetryException(TimeSpan.FromHours(2), "not yet") };
        var fares = await StartFaresAsync(crossing, peer, log);
        var broker = fares.Services.GetRequiredService<IBroker>();
        await broker.PublishAsync([.. Enumerable.Range(0, 5).Select(i => Crossing.TapEvent(i))]);
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 5), "all have been tried");
        await fares.StopAsync().WaitAsync(Crossing.Limit);
        Assert.Equal(5, peer.Depth("taps"));
        Assert.Empty(peer.Discarded);
    }

    [Fact]
    public async Task Without_a_store_that_keeps_what_is_set_aside_the_start_is_refused()
    {
        await using var crossing = new Crossing(new TPlace());
        var error = await Assert.ThrowsAsync<CourierException>(() => StartFaresAsync(
            crossing, new PushingEngine(), new Log(), limits => limits.Inbox = false,
            new() { ["Courier:Broker"] = "push:peer", ["Courier:Store"] = null }));
        Assert.Contains("push:peer does not keep what is set aside", error.Message, StringComparison.Ordinal);
    }
}
