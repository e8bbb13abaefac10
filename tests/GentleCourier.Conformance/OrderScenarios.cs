using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Conformance;

/// <summary>What people order by hand while workers run: a pause, other limits, a worker to be drained.</summary>
public abstract class OrderScenarios<TPlace> where TPlace : Place, new()
{
    private static Task<IHost> StartFaresAsync(
        Crossing crossing, Log log, Action<ReceiverOptions>? limits = null) => crossing.StartAsync(
        "fares",
        courier => courier.Receive("taps", queue =>
        {
            queue.Options.InKeyOrder = crossing.Broker().Abilities.HasFlag(BrokerAbilities.KeyOrder) && limits is null;
            (queue.Options.Prefetch, queue.Options.Parallel) = (20, 2);
            limits?.Invoke(queue.Options);
            queue.Handle<Tap, TapReceiver>();
        }),
        services: s => s.AddSingleton(log));

    private static Task<IReadOnlyList<PublishResult>> PublishAsync(
        Crossing crossing, int from, int count) => crossing.Broker().PublishAsync(
        [.. Enumerable.Range(from, count).Select(i => Crossing.TapEvent(i, $"card-{i % 40}"))]);

    private static IQueues Queues(IHost host) => host.Services.GetRequiredService<IQueues>();

    private static IWorkers Workers(IHost host) => host.Services.GetRequiredService<IWorkers>();

    private static Task<IReadOnlyList<WorkerFigures>> RegisteredAsync(Crossing crossing, int count) =>
        RegisteredAsync(crossing, workers => workers.Count == count, $"{count} workers are registered");

    private static async Task<IReadOnlyList<WorkerFigures>> RegisteredAsync(
        Crossing crossing, Func<IReadOnlyList<WorkerFigures>, bool> condition, string what)
    {
        IReadOnlyList<WorkerFigures> workers = [];
        await Crossing.UntilAsync(
            async () => condition(workers = (await crossing.Reports.ReadFiguresAsync()).Workers!), what);
        return workers;
    }

    private static async Task<IReadOnlyList<Finding>> FindingsAsync(Crossing crossing) =>
        Findings.Of(await crossing.Reports.ReadFiguresAsync());

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Of_a_paused_queue_nothing_begins_and_no_attempt_is_counted(bool inKeyOrder)
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var finish = new TaskCompletionSource();
        var log = new Log { OnTap = (_, _) => finish.Task };
        Action<ReceiverOptions>? limits = inKeyOrder ? null : _ => { };
        IHost[] fares = [await StartFaresAsync(crossing, log, limits), await StartFaresAsync(crossing, log, limits)];
        await PublishAsync(crossing, 0, 100);
        await Crossing.UntilAsync(
            async () => log.Taps.Count == 4 && (await crossing.FiguresAsync("taps")).InHand > 20, "both hold some");

        await Queues(fares[0]).PauseAsync("taps", "ada", "card machine is down");
        // What has begun is finished, and what has not goes back.
        await RegisteredAsync(
            crossing, workers => workers.Sum(w => w.Receivers[0].InHand) == 4
                && workers.All(w => w.Receivers[0].IsHeld && w.Heard > 0), "they hold what they have begun");
        finish.SetResult();
        await PublishAsync(crossing, 100, 20);
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 116, Scheduled: 0 } figures
                && figures.Pause is { By: "ada", Why: "card machine is down", Left: null }, "all else waits");
        var found = await FindingsAsync(crossing);
        Assert.Contains("ada: card machine is down", Assert.Single(found, f => f.Code == "queue-paused").What,
            StringComparison.Ordinal);
        Assert.DoesNotContain(found, f => f.IsWrong);

        // Whoever comes now begins nothing either: only once it is registered, and knows, it is told so.
        await StartFaresAsync(crossing, log, limits);
        await RegisteredAsync(
            crossing, workers => workers.Count == 3 && workers.All(w => w.Receivers[0].IsHeld), "the third knows, too");
        Assert.Equal(4, log.Taps.Count);

        await Queues(fares[1]).ResumeAsync("taps");
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 120), log.Taps.Select(t => t.Data.Number).Order());
        Assert.All(log.Taps, t => Assert.Equal(1, t.Attempt));
        Assert.DoesNotContain(await FindingsAsync(crossing), f => f.Code == "queue-paused");
        if (!inKeyOrder || !crossing.Broker().Abilities.HasFlag(BrokerAbilities.KeyOrder)) return;
        foreach (var card in log.Taps.GroupBy(t => t.Data.Number % 40))
            Assert.Equal(card.Select(t => t.Data.Number).Order(), card.Select(t => t.Data.Number));
    }

    /// <summary>It has not begun, however long it would still wait for more.</summary>
    [Fact]
    public async Task A_batch_that_still_gathers_goes_back()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log();
        var fares = await crossing.StartAsync(
            "fares",
            courier => courier.Receive("taps", queue =>
            {
                (queue.Options.BatchSize, queue.Options.BatchWait) = (10, TimeSpan.FromMinutes(1));
                queue.HandleBatches<Tap, TapBatches>();
            }),
            services: s => s.AddSingleton(log));
        await PublishAsync(crossing, 0, 3);
        await RegisteredAsync(crossing, 1);
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 0 }, "they have been handed over");
        await Queues(fares).PauseAsync("taps", "ada");
        await RegisteredAsync(
            crossing, workers => workers[0].Receivers[0] is { InHand: 0, IsHeld: true }, "it lets go");
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 3, InHand: 0 }, "they wait again");
        Assert.Empty(log.Taps);
        await Queues(fares).ResumeAsync("taps");
        await PublishAsync(crossing, 3, 17);
        await crossing.SettledAsync();
        Assert.Equal(20, log.Taps.Count);
    }

    private sealed class TapBatches(Log log) : IBatchReceiver<Tap>
    {
        public Task HandleAsync(DeliveryBatch<Tap> batch, CancellationToken cancellationToken)
        {
            foreach (var tap in batch) log.Taps.Enqueue(null!);
            return Task.CompletedTask;
        }
    }

    [Fact]
    public async Task A_pause_with_an_end_ends_by_itself()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log();
        var fares = await StartFaresAsync(crossing, log);
        await RegisteredAsync(crossing, 1);
        await Queues(fares).PauseAsync("taps", "ada", duration: TimeSpan.FromSeconds(2));
        await PublishAsync(crossing, 0, 10);
        await crossing.SettledAsync();
        Assert.Equal(10, log.Taps.Count);
        Assert.Null((await crossing.FiguresAsync("taps")).Pause);
    }

    /// <summary>Also one that is paused anew, and not a queue that is not there.</summary>
    [Fact]
    public async Task The_last_word_about_a_queue_counts()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log();
        var fares = await StartFaresAsync(crossing, log);
        await RegisteredAsync(crossing, 1);
        await Queues(fares).PauseAsync("taps", "ada", duration: TimeSpan.FromSeconds(1));
        await Queues(fares).PauseAsync("taps", "bela", duration: TimeSpan.FromHours(3));
        Assert.True((await crossing.FiguresAsync("taps")).Pause is { By: "bela", Left.TotalHours: > 2.9 });
        await Queues(fares).ResumeAsync("taps");
        await Queues(fares).ResumeAsync("taps");
        Assert.Null((await crossing.FiguresAsync("taps")).Pause);
        var error = await Assert.ThrowsAsync<CourierException>(() => Queues(fares).PauseAsync("tabs", "ada"));
        Assert.Contains("did you mean taps?", error.Message, StringComparison.Ordinal);
        await Assert.ThrowsAsync<CourierException>(
            () => Workers(fares).SteerAsync("tabs", new Steering { Parallel = 2 }, "ada"));
        await Assert.ThrowsAsync<ArgumentOutOfRangeException>(
            () => Queues(fares).PauseAsync("taps", "ada", duration: TimeSpan.Zero));
        Assert.Empty((await crossing.Reports.ReadFiguresAsync()).Instructions);
    }

    [Fact]
    public async Task Workers_are_steered_while_they_run_and_back_again()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var (running, most, gate) = (0, 0, new SemaphoreSlim(0));
        var log = new Log
        {
            OnTap = async (_, cancel) =>
            {
                var now = Interlocked.Increment(ref running);
                lock (gate) most = Math.Max(most, now);
                await gate.WaitAsync(cancel);
                Interlocked.Decrement(ref running);
            },
        };
        var fares = await StartFaresAsync(
            crossing, log, limits => (limits.Prefetch, limits.Parallel) = (20, 1));
        var worker = Assert.Single(await RegisteredAsync(crossing, 1));
        await PublishAsync(crossing, 0, 60);
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 1), "one runs");
        await Workers(fares).SteerAsync("taps", new Steering { Parallel = 5 }, "ada", "backlog");
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 5), "five run");
        await RegisteredAsync(
            crossing, workers => workers[0].Receivers[0] is { Parallel: 5, Steering: "parallel 5" }, "it says so");
        Assert.Single(await FindingsAsync(crossing), f => f.Code == "worker-steered");

        // What is said of one goes before what is said of all; what it does not say stays.
        await Workers(fares).SteerAsync(
            "taps", new Steering { Parallel = 2, Prefetch = 2 }, "ada", worker: worker.Id);
        await RegisteredAsync(
            crossing, workers => workers[0].Receivers[0] is { Parallel: 2, Prefetch: "2" }, "it does what it is told");
        // The five end, and no more than two begin.
        gate.Release(5);
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 7), "two more have begun");
        lock (gate) most = 0;
        gate.Release(10);
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 17), "two at a time");
        lock (gate) Assert.Equal(2, most);

        await Workers(fares).EndSteeringAsync("taps", worker.Id);
        await Workers(fares).EndSteeringAsync("taps");
        await RegisteredAsync(
            crossing,
            workers => workers[0].Receivers[0] is { Parallel: 1, Prefetch: "20", Steering: null }, "as settings say");
        gate.Release(100);
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 60), log.Taps.Select(t => t.Data.Number).Order());
    }

    /// <summary>Also those that have nothing to do at that moment, and wait for something.</summary>
    [Fact]
    public async Task Handlers_that_are_too_many_begin_nothing_more()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var (running, most, gate) = (0, 0, new Lock());
        var log = new Log
        {
            OnTap = async (_, cancel) =>
            {
                lock (gate) most = Math.Max(most, ++running);
                await Task.Delay(5, cancel);
                lock (gate) running--;
            },
        };
        var fares = await StartFaresAsync(
            crossing, log, limits => (limits.Prefetch, limits.Parallel) = (50, 6));
        await PublishAsync(crossing, 0, 60);
        await crossing.SettledAsync();
        await Workers(fares).SteerAsync("taps", new Steering { Parallel = 1 }, "ada");
        await RegisteredAsync(crossing, workers => workers is [{ Receivers: [{ Parallel: 1 }] }], "it is told");
        lock (gate) most = 0;
        await PublishAsync(crossing, 60, 60);
        await crossing.SettledAsync();
        lock (gate) Assert.Equal(1, most);
        Assert.Equal(Enumerable.Range(0, 120), log.Taps.Select(t => t.Data.Number).Order());
        Assert.All(log.Taps, t => Assert.Equal(1, t.Attempt));
    }

    /// <summary>Its next turn would have come in a quarter of an hour.</summary>
    [Fact]
    public async Task A_rate_that_is_steered_counts_at_once()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log();
        var fares = await StartFaresAsync(crossing, log, limits => limits.MaxPerSecond = 0.001);
        await PublishAsync(crossing, 0, 50);
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 1), "the first has begun");
        await Workers(fares).SteerAsync("taps", new Steering { MaxPerSecond = 1_000 }, "ada");
        await crossing.SettledAsync();
        Assert.Equal(50, log.Taps.Count);
    }

    [Fact]
    public async Task Several_who_order_the_same_at_the_same_moment_do_it_one_after_the_other()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"), ("test.charged", "charges"));
        var fares = await StartFaresAsync(crossing, new Log());
        await RegisteredAsync(crossing, 1);
        await Task.WhenAll(Enumerable.Range(0, 24).Select(i => (i % 4) switch
        {
            0 => Queues(fares).PauseAsync("taps", $"ada {i}", duration: TimeSpan.FromHours(1 + i)),
            1 => Workers(fares).SteerAsync("taps", new Steering { Parallel = 1 + i }, $"ada {i}"),
            2 => Workers(fares).DrainAsync($"pier/{i % 3}", $"ada {i}"),
            _ => Queues(fares).ResumeAsync("taps"),
        }));
        await Queues(fares).PauseAsync("taps", "bela");
        var figures = await crossing.Reports.ReadFiguresAsync();
        Assert.Equal("bela", figures.Queues.Single(q => q.Queue == "taps").Pause?.By);
        Assert.Equal(
            ["", "pier/0", "pier/1", "pier/2"],
            figures.Instructions.Select(i => i.Worker ?? "").Order(StringComparer.Ordinal));
    }

    [Fact]
    public async Task A_worker_that_cannot_work_so_says_why_and_goes_on_as_before()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log();
        var fares = await StartFaresAsync(crossing, log, limits => limits.Prefetch = 10);
        await RegisteredAsync(crossing, 1);
        await Workers(fares).SteerAsync("taps", new Steering { Parallel = 50 }, "ada");
        await RegisteredAsync(
            crossing, workers => workers[0].Receivers[0] is { Parallel: 2, SteeringProblem: { } problem }
                && problem.StartsWith("Prefetch must be at least", StringComparison.Ordinal), "it says why");
        Assert.True(Assert.Single(await FindingsAsync(crossing), f => f.Code == "steering-refused").IsWrong);
        await PublishAsync(crossing, 0, 10);
        await crossing.SettledAsync();
        await Assert.ThrowsAsync<ArgumentException>(() => Workers(fares).SteerAsync("taps", new(), "ada"));
        await Assert.ThrowsAsync<ArgumentException>(
            () => Workers(fares).SteerAsync("taps", new Steering { Parallel = 1_001 }, "ada"));
    }

    [Fact]
    public async Task A_brake_is_taken_off_by_hand()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var isMended = false;
        var log = new Log
        {
            OnTap = (_, _) => isMended ? Task.CompletedTask : throw new InvalidOperationException("not yet"),
        };
        var fares = await StartFaresAsync(
            crossing, log, limits => (limits.FirstDelay, limits.MaxDelay, limits.MaxAttempts) =
                (TimeSpan.FromMilliseconds(10), TimeSpan.FromMilliseconds(20), 1_000));
        await PublishAsync(crossing, 0, 20);
        await RegisteredAsync(
            crossing, workers => workers is [{ Receivers: [{ Brake: not null }] }], "the brake is on");
        await Workers(fares).SteerAsync("taps", new Steering { BrakeAfter = 0 }, "ada");
        await RegisteredAsync(
            crossing, workers => workers[0].Receivers[0] is { Brake: null, Steering: "no brake" }, "it is off");
        isMended = true;
        await crossing.SettledAsync();
    }

    [Fact]
    public async Task A_drained_worker_finishes_gives_back_the_rest_and_takes_no_more()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var finish = new TaskCompletionSource();
        Log first = new() { OnTap = (_, _) => finish.Task }, second = new();
        var old = await StartFaresAsync(crossing, first);
        var worker = Assert.Single(await RegisteredAsync(crossing, 1));
        await PublishAsync(crossing, 0, 30);
        await Crossing.UntilAsync(() => Task.FromResult(first.Taps.Count == 2), "it works");
        await StartFaresAsync(crossing, second);
        await RegisteredAsync(crossing, 2);

        await Workers(old).DrainAsync(worker.Id, "ada");
        await Crossing.UntilAsync(() => Task.FromResult(second.Taps.Count == 28), "the other has the rest");
        await RegisteredAsync(
            crossing, workers => workers.Single(w => w.Id == worker.Id) is
                { IsDrained: true, Receivers: [{ InHand: 2 }] }, "it finishes what it has begun");
        finish.SetResult();
        await RegisteredAsync(
            crossing, workers => workers.Single(w => w.Id == worker.Id).Receivers[0].InHand == 0, "it is idle");
        await PublishAsync(crossing, 30, 30);
        await crossing.SettledAsync();
        Assert.Equal((2, 58), (first.Taps.Count, second.Taps.Count));
        Assert.Contains("nothing in hand",
            Assert.Single(await FindingsAsync(crossing), f => f.Code == "worker-drained").What,
            StringComparison.Ordinal);

        // It ends with its process: what is started in its place works.
        await old.StopAsync();
        await RegisteredAsync(crossing, 1);
        Assert.DoesNotContain(await FindingsAsync(crossing), f => f.Code == "worker-drained");
        var next = new Log();
        await StartFaresAsync(crossing, next);
        await RegisteredAsync(crossing, workers => workers.Count == 2 && workers.All(w => !w.IsDrained), "none is");
    }

    [Fact]
    public async Task A_worker_that_is_no_longer_drained_works_again()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log();
        var fares = await StartFaresAsync(crossing, log);
        var worker = Assert.Single(await RegisteredAsync(crossing, 1));
        await Workers(fares).DrainAsync(worker.Id, "ada");
        await RegisteredAsync(crossing, workers => workers[0].IsDrained, "it takes no more");
        await PublishAsync(crossing, 0, 10);
        await Workers(fares).EndDrainingAsync(worker.Id);
        await crossing.SettledAsync();
        Assert.Equal(10, log.Taps.Count);
    }

    /// <summary>What is published waits in the outbox, and what falls due meanwhile goes there, too.</summary>
    [Fact]
    public async Task A_paused_relay_publishes_nothing_and_goes_on_when_it_is_resumed()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log();
        await StartFaresAsync(crossing, log);
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(new Tap(0));
        await crossing.SettledAsync();
        var pause = harbour.Store().RelayPause;
        await pause.PauseAsync(null, new HandNote("ada", "moving the broker"));
        // A relay that had begun to read may publish once more; from a look that found the pause on, it does not.
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Pause is { By: "ada" }, "it is paused");
        await harbour.PublishAsync([.. Enumerable.Range(1, 9).Select(i => EventDraft.Of(
            new Tap(i), i > 5 ? new() { Due = DueTime.In(TimeSpan.FromMilliseconds(300)) } : null))]);
        await Crossing.UntilAsync(
            async () => await harbour.Store().ReadOutboxFiguresAsync() is { Later: 0 },
            "what was due is in the outbox");
        var outbox = await harbour.Store().ReadOutboxFiguresAsync();
        Assert.Single(Findings.Of("harbour", outbox), f => f.Code == "relay-paused");
        Assert.Equal(9, outbox.Waiting);
        await pause.ResumeAsync();
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 10), log.Taps.Select(t => t.Data.Number).Order());
    }

    /// <summary>
    /// Twenty handlers in six processes, of which some are killed while it is paused, and others started.
    /// </summary>
    [Fact]
    public async Task A_pause_holds_across_processes_that_are_killed_and_started()
    {
        const int Count = 200;
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("rig.mark", "marks"));
        var rigs = new List<Rig>();
        try
        {
            rigs.Add(new Rig(crossing, "relay", "harbour"));
            Receive(6);
            var workers = await RegisteredAsync(crossing, 6);
            rigs.Add(new Rig(crossing, "publish", "harbour", $"Rig:Count={Count}"));
            await Crossing.UntilAsync(async () => await MarksAsync() is { Count: > 20 }, "they work", [.. rigs]);

            await PauseAsync(isPaused: true);
            await RegisteredAsync(
                crossing, all => all.Count == 6 && all.All(w => w.IsIdle && w.Receivers[0].IsHeld), "all let go");
            var before = await MarksAsync();
            foreach (var rig in rigs[1..4]) await rig.KillAsync();
            Receive(3);
            await RegisteredAsync(
                crossing,
                all => all.Count(w => workers.All(o => o.Id != w.Id) && w.Receivers[0].IsHeld) == 3, "new ones know");
            await Crossing.UntilAsync(
                async () => rigs.Any(r => r.HasEnded && r.ExitCode == 0)
                    && await crossing.SharedStore("harbour").ReadOutboxFiguresAsync() is { Waiting: 0 },
                "all is published", [.. rigs]);
            Assert.Equal(Count - before.Count, (await crossing.FiguresAsync("marks")).Waiting);
            Assert.Equal(before.Count, (await MarksAsync()).Count);

            await PauseAsync(isPaused: false);
            await Crossing.UntilAsync(
                async () => (await MarksAsync()).Count == Count, "all is handled", [.. rigs]);
            Assert.Equal(Enumerable.Range(0, Count), (await MarksAsync()).Order());
            Assert.All(await MarksAsync("attempt"), attempt => Assert.Equal(1, attempt));
        }
        finally
        {
            rigs.ForEach(rig => rig.Dispose());
        }

        void Receive(int count)
        {
            for (var i = 0; i < count; i++)
            {
                rigs.Add(new Rig(
                    crossing, "receive", "fares", $"Courier:Receivers:marks:Parallel={(i % 2 == 0 ? 3 : 4)}",
                    // A machine that is too busy to renew in a second would have attempts counted.
                    "Rig:Slow=20", "Courier:Receivers:marks:Lease=00:00:30"));
            }
        }

        Task<List<int>> MarksAsync(string column = "number") =>
            Crossing.NumbersAsync(crossing.SharedStore("fares"), $"SELECT {column} FROM mark");

        async Task PauseAsync(bool isPaused)
        {
            foreach (var place in crossing.Broker().OrderedAt())
            {
                if (!(await place.Reports!.ReadTopologyAsync()).Queues.Contains("marks")) continue;
                if (isPaused) await Orders.Of(place).PauseAsync("marks", null, new HandNote("ada", null));
                else await Orders.Of(place).ResumeAsync("marks");
            }
        }
    }
}
