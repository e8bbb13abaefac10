using System.Collections.Concurrent;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>What becomes of a delivery, by what its handler does and how long it takes.</summary>
public abstract class OutcomeScenarios<TPlace> where TPlace : Place, new()
{
    private static async Task<QueuedEvent> OnlyEventAsync(Crossing crossing) =>
        Assert.Single(await crossing.Reports.PeekAsync("taps", 10));

    private static Task<IHost> StartFaresAsync(
        Crossing crossing, Log log, Action<QueueBinding>? bind = null, TimeProvider? clock = null) =>
        crossing.StartAsync(
            "fares",
            courier => courier.Receive("taps", queue =>
            {
                bind?.Invoke(queue);
                queue.Handle<Tap, TapReceiver>();
            }),
            services: services =>
            {
                services.AddSingleton(log);
                if (clock is not null) services.AddSingleton(clock);
            });

    [Fact]
    public async Task A_handler_names_the_delay_after_which_it_wants_the_event_again()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log { OnTap = (_, _) => throw new RetryException(
            TimeSpan.FromHours(2), "the sailing has not left yet") };
        await StartFaresAsync(crossing, log);
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Scheduled == 1, "it comes later");

        var waiting = await OnlyEventAsync(crossing);
        Assert.Equal(("the sailing has not left yet", 1), (waiting.LastError, waiting.Attempts));
        Assert.InRange(waiting.Until!.Value - waiting.Arrived, TimeSpan.FromMinutes(119), TimeSpan.FromMinutes(121));
    }

    /// <summary>A copy that came when the other one is forgotten would act a second time.</summary>
    [Fact]
    public async Task A_delay_that_would_outlive_the_memory_of_the_inbox_is_cut_to_half_of_that()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log { OnTap = (_, _) => throw new RetryException(TimeSpan.FromDays(20), "not this month") };
        await crossing.StartAsync(
            "fares", courier => courier.Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
            new() { ["Courier:Retention:Inbox"] = "4.00:00:00" }, services => services.AddSingleton(log));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Scheduled == 1, "it comes later");
        var waiting = await OnlyEventAsync(crossing);
        Assert.InRange(waiting.Until!.Value - waiting.Arrived, TimeSpan.FromHours(47), TimeSpan.FromHours(49));
    }

    [Fact]
    public async Task The_first_retries_come_at_once_and_the_next_only_after_a_while()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log { OnTap = (_, _) => throw new TimeoutException("the till is jammed") };
        await StartFaresAsync(crossing, log,
            queue => (queue.Options.RetriesAtOnce, queue.Options.FirstDelay, queue.Options.MaxDelay) =
            (3, TimeSpan.FromDays(1), TimeSpan.FromDays(1)));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Scheduled == 1, "it comes later");
        Assert.Equal([1, 2, 3, 4], log.Taps.Select(t => t.Attempt));
    }

    [Fact]
    public async Task An_exception_that_the_queue_lists_as_useless_to_retry_sets_the_event_aside_at_once()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log { OnTap = (_, _) => throw new DirectoryNotFoundException("no such pier") };
        await StartFaresAsync(crossing, log, queue => queue.RejectOn<IOException>());
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await crossing.SettledAsync(deadLetters: 1);
        var letter = (await crossing.DeadLetters.ReadAsync(null, 1))[0];
        Assert.Equal(1, letter.Attempts);
        Assert.StartsWith(
            "useless to try again: DirectoryNotFoundException: no such pier", letter.Reason, StringComparison.Ordinal);
    }

    [Fact]
    public async Task An_event_that_fails_and_would_be_too_old_at_its_next_attempt_is_set_aside()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log { OnTap = (_, _) => throw new RetryException(TimeSpan.FromHours(2), "the till is jammed") };
        await StartFaresAsync(crossing, log, queue => queue.Options.MaxAge = TimeSpan.FromHours(1));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await crossing.SettledAsync(deadLetters: 1);
        Assert.StartsWith(
            "failed attempt 1, and would be older than 01:00:00 at the next; the last with",
            (await crossing.DeadLetters.ReadAsync(null, 1))[0].Reason, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_handler_that_exceeds_its_time_limit_is_cancelled_and_its_attempt_fails_without_effect()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                await (await delivery.BeginAsync(cancel))
                    .Connection!.ExecuteAsync("CREATE TABLE half_done (number INTEGER)");
                await Task.Delay(Timeout.Infinite, cancel);
            },
        };
        await StartFaresAsync(crossing, log,
            queue => (queue.Options.MaxAttempts, queue.Options.TimeLimit) = (2, TimeSpan.FromMilliseconds(500)));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Equal(2, log.Taps.Count);
        Assert.Equal(
            "failed all 2 attempts; the last with TimeoutException: the handler ran longer than its time limit of "
            + "00:00:00.5000000",
            (await crossing.DeadLetters.ReadAsync(null, 1))[0].Reason);
        Assert.False(await crossing.Store("fares").HasTableAsync("half_done"));
        Assert.Empty(await crossing.Store("fares").Inbox.ReadAsync("taps"));
    }

    [Fact]
    public async Task A_handler_that_ignores_its_time_limit_is_reported_and_void_and_others_get_the_rest()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var finish = new TaskCompletionSource();
        var late = new TaskCompletionSource();
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                if (delivery.Data.Number > 0) return;
                await finish.Task;
                await (await delivery.BeginAsync(CancellationToken.None))
                    .Connection!.ExecuteAsync("CREATE TABLE too_late (number INTEGER)");
                late.SetResult();
            },
        };
        var reports = new Reports();
        var fares = crossing.Build(
            "fares",
            c => c.Receive("taps", q =>
            {
                (q.Options.Prefetch, q.Options.TimeLimit, q.Options.MaxAttempts) = (5, TimeSpan.FromMinutes(5), 1);
                q.Handle<Tap, TapReceiver>();
            }),
            services: s => s.AddSingleton(log).AddSingleton<TimeProvider>(clock)
                .AddSingleton<Microsoft.Extensions.Logging.ILoggerFactory>(reports));
        await fares.StartAsync();
        var broker = crossing.AnotherBroker(clock);
        await broker.PublishAsync([.. Enumerable.Range(0, 5).Select(i => Crossing.TapEvent(i))]);
        await Crossing.UntilAsync(
            async () => log.Taps.Count == 1 && (await crossing.FiguresAsync("taps")).InHand == 5, "all are in hand");

        await Crossing.UntilAsync(
            clock, TimeSpan.FromSeconds(10),
            async () => (await crossing.DeadLetters.ReadAsync("taps", 1)).Count == 1,
            "it is set aside");
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { DeadLetters: 1, InHand: 0, Ready: 4 },
            "the rest is given back");
        Assert.Contains(reports.Lines, line => line.Contains(
            "test.tap 0 ran longer than its limit of 00:05:00 and ignores its cancellation", StringComparison.Ordinal));
        Assert.All(
            await crossing.Reports.PeekAsync("taps", 10),
            e => Assert.Equal((QueuedState.Ready, 0), (e.State, e.Attempts)));

        finish.SetResult();
        await late.Task.WaitAsync(Crossing.Limit);
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 0, InHand: 0, Scheduled: 0 },
            "its place is free again, and the rest handled");
        Assert.False(await crossing.Store("fares").HasTableAsync("too_late"));
        Assert.Equal(
            ["1", "2", "3", "4"], (await crossing.Store("fares").Inbox.ReadAsync("taps")).Select(e => e.Id).Order());
    }

    [Fact]
    public async Task A_handler_that_never_ends_does_not_keep_its_process_from_ending()
    {
        await using var crossing = new Crossing(new TPlace());
        var begun = new TaskCompletionSource();
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                await delivery.BeginAsync(cancel);
                begun.SetResult();
                await Task.Delay(Timeout.Infinite, CancellationToken.None);
            },
        };
        var fares = await StartFaresAsync(
            crossing, log, queue => queue.Options.StopLimit = TimeSpan.FromMilliseconds(10));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await begun.Task.WaitAsync(Crossing.Limit);
        await fares.StopAsync().WaitAsync(Crossing.Limit);
        await ((IAsyncDisposable)fares).DisposeAsync().AsTask().WaitAsync(Crossing.Limit);
    }

    [Fact]
    public async Task Settled_on_arrival_an_event_is_gone_whatever_its_handler_does()
    {
        await using var crossing = new Crossing(new TPlace());
        var begun = new ConcurrentQueue<int>();
        var log = new Log
        {
            OnTap = async (delivery, _) =>
            {
                await Crossing.UntilAsync(
                    async () => (await crossing.FiguresAsync("taps")).InHand == 0, "nothing is in hand");
                begun.Enqueue(delivery.Data.Number);
                if (delivery.Data.Number == 1) throw new TimeoutException("the till is jammed");
            },
        };
        var reports = new Reports();
        await crossing.StartAsync(
            "fares",
            c => c.Receive("taps", q =>
            {
                (q.Options.Settling, q.Options.Prefetch) = (Settling.OnArrival, 1);
                q.Handle<Tap, TapReceiver>();
            }),
            services: s => s.AddSingleton(log).AddSingleton<Microsoft.Extensions.Logging.ILoggerFactory>(reports));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1), new Tap(2), new Tap(3));
        // That all are settled does not say here that all are handled.
        await Crossing.UntilAsync(() => Task.FromResult(begun.Count == 3), "all have come");
        await crossing.SettledAsync(deadLetters: 0);
        Assert.Equal([1, 2, 3], log.Taps.Select(t => t.Data.Number));
        Assert.Equal([1, 2, 3], begun);
        Assert.Single(reports.Lines, line => line.EndsWith(
            "is gone, it was settled on arrival: TimeoutException: the till is jammed", StringComparison.Ordinal));
    }

    [Fact]
    public async Task Settled_on_arrival_what_has_not_begun_when_the_host_stops_is_given_back()
    {
        await using var crossing = new Crossing(new TPlace());
        var begun = new TaskCompletionSource();
        var finish = new TaskCompletionSource();
        var log = new Log
        {
            OnTap = async (_, _) =>
            {
                begun.TrySetResult();
                await finish.Task;
            },
        };
        var fares = await StartFaresAsync(crossing, log, queue => queue.Options.Settling = Settling.OnArrival);
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 5).Select(i => Crossing.TapEvent(i))]);
        await begun.Task.WaitAsync(Crossing.Limit);
        await Crossing.UntilAsync(
            async () => (await crossing.FiguresAsync("taps")) is { InHand: 4, Ready: 0 }, "the rest is held");
        var stopping = fares.StopAsync();
        finish.SetResult();
        await stopping.WaitAsync(Crossing.Limit);
        Assert.Single(log.Taps);
        Assert.All(await crossing.Reports.PeekAsync("taps", 10),
            e => Assert.Equal((QueuedState.Ready, 0), (e.State, e.Attempts)));
        Assert.Equal(4, (await crossing.FiguresAsync("taps")).Ready);
    }
}
