using System.Collections.Concurrent;
using System.Diagnostics;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Conformance;

/// <summary>
/// Whatever fails around receiving, it goes on: at once where it can, and otherwise by itself when it can.
/// </summary>
public abstract class StandstillScenarios<TPlace> where TPlace : Place, new()
{
    private static Task<IHost> StartFaresAsync(Crossing crossing, Log log, Action<QueueBinding>? bind = null,
        Action<IServiceCollection>? services = null) =>
        crossing.StartAsync(
            "fares",
            courier => courier.Receive("taps", queue =>
            {
                bind?.Invoke(queue);
                queue.Handle<Tap, TapReceiver>();
            }),
            services: all =>
            {
                all.AddSingleton(log);
                services?.Invoke(all);
            });

    private static async Task PublishAsync(Crossing crossing, int count, int first = 0) =>
        await crossing.Broker().PublishAsync([.. Enumerable.Range(first, count).Select(i => Crossing.TapEvent(i))]);

    /// <summary>What a broken connection says.</summary>
    private static CourierException Away() => new("the line is dead") { IsTransient = true };

    [Theory]
    [InlineData("ReceiveAsync")]
    [InlineData("SettleAsync")]
    public async Task A_failure_of_the_link_stops_nothing_while_a_handler_takes_its_time(string what)
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var engine = new TroubledEngine(crossing.Engine);
        crossing.Engine = engine;
        var toFail = 0;
        engine.Before = call =>
        {
            if (call == what && Interlocked.Decrement(ref toFail) >= 0) throw Away();
        };
        var finish = new TaskCompletionSource();
        var handled = new ConcurrentDictionary<int, int>();
        var log = new Log
        {
            OnTap = async (delivery, _) =>
            {
                if (delivery.Data.Number == 0) await finish.Task;
                handled.AddOrUpdate(delivery.Data.Number, 1, (_, times) => times + 1);
            },
        };
        await StartFaresAsync(crossing, log, q => (q.Options.Parallel, q.Options.Prefetch) = (4, 8));
        await PublishAsync(crossing, 1);
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 1), "the long one has begun");

        Volatile.Write(ref toFail, 3);
        await PublishAsync(crossing, 50, first: 1);
        await Crossing.UntilAsync(() => Task.FromResult(handled.Count == 50), "all others are handled");
        await PublishAsync(crossing, 50, first: 51);
        await Crossing.UntilAsync(() => Task.FromResult(handled.Count == 100), "and all that came later");
        // Where much waits, what is settled brings what is next with it: one that comes alone has to be asked for.
        var count = 101;
        for (; Volatile.Read(ref toFail) > 0; count++)
        {
            await PublishAsync(crossing, 1, first: count);
            await Crossing.UntilAsync(() => Task.FromResult(handled.Count == count), "and one that comes alone");
        }
        finish.SetResult();
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, count), handled.Keys.Order());
        Assert.All(handled.Values, times => Assert.Equal(1, times));
    }

    [Fact]
    public async Task A_link_that_is_lost_is_opened_again_while_its_handlers_go_on_and_nothing_acts_twice()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var engine = new TroubledEngine(crossing.Engine);
        crossing.Engine = engine;
        var begun = new TaskCompletionSource();
        var finish = new TaskCompletionSource();
        var (lose, opened) = (false, 0);
        engine.Before = call =>
        {
            if (call == "OpenLinkAsync") Interlocked.Increment(ref opened);
            if (call == "SettleAsync" && Interlocked.Exchange(ref lose, false)) throw new LinkLostException("cut off");
        };
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                if (delivery.Data.Number == 0)
                {
                    begun.TrySetResult();
                    await finish.Task;
                }
                await (await delivery.BeginAsync(cancel)).Connection!.ExecuteAsync(
                    "INSERT INTO charge VALUES (@n)", ("@n", delivery.Data.Number));
            },
        };
        var store = crossing.Store("fares");
        await store.PrepareAsync(create: true);
        await using (var connection = await store.OpenConnectionAsync())
            await connection.ExecuteAsync("CREATE TABLE charge (number INTEGER)");
        await StartFaresAsync(crossing, log,
            q => (q.Options.Parallel, q.Options.Prefetch, q.Options.Lease) = (2, 4, TimeSpan.FromSeconds(1)));
        await PublishAsync(crossing, 1);
        await begun.Task.WaitAsync(Crossing.Limit);
        lose = true;
        await PublishAsync(crossing, 19, first: 1);

        // All others are handled, by another link, while the first still runs.
        await Crossing.UntilAsync(
            async () => (await crossing.SharedStore("fares").Inbox.ReadAsync("taps")).Count == 19, "the others are");
        Assert.Equal(2, opened);
        finish.SetResult();
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 20),
            (await Crossing.NumbersAsync(store, "SELECT number FROM charge")).Order());
    }

    [Fact]
    public async Task A_settlement_that_cannot_be_made_keeps_none_of_the_others()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var engine = new TroubledEngine(crossing.Engine);
        crossing.Engine = engine;
        engine.BeforeSettling = settlements =>
        {
            if (settlements.Any(s => Crossing.NumberOf(s.Delivery.Json) == 7))
                throw new CourierException("no place for such a character");
        };
        var log = new Log();
        await StartFaresAsync(crossing, log,
            q => (q.Options.Parallel, q.Options.Prefetch, q.Options.Lease) = (4, 40, TimeSpan.FromSeconds(1)));
        await PublishAsync(crossing, 40);
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 0, InHand: 1 }, "all others are settled");
        engine.BeforeSettling = _ => { };
        await crossing.SettledAsync();
        Assert.Equal(40, log.Taps.Select(t => t.Data.Number).Distinct().Count());
    }

    [Fact]
    public async Task A_listener_of_traces_that_throws_costs_no_event_its_attempt()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "traced"));
        var (begun, thrown) = (0, 0);
        using var listener = new ActivityListener
        {
            ShouldListenTo = s => s.Name == "GentleCourier",
            Sample = (ref ActivityCreationOptions<ActivityContext> options) => options.Name == "process traced"
                ? ActivitySamplingResult.AllData : ActivitySamplingResult.None,
            ActivityStarted = activity =>
            {
                if (activity.OperationName == "process traced" && Interlocked.Increment(ref begun) % 2 == 0) Throw();
            },
            ActivityStopped = activity =>
            {
                if (activity.OperationName == "process traced") Throw();
            },
        };
        ActivitySource.AddActivityListener(listener);
        var log = new Log();
        await crossing.StartAsync("fares", c => c.Receive("traced", q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(log));
        await PublishAsync(crossing, 100);
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("traced") is { Ready: 0, InHand: 0, Scheduled: 0 },
            "all is settled");
        Assert.Equal(100, log.Taps.Count);
        Assert.All(log.Taps, tap => Assert.Equal(1, tap.Attempt));
        Assert.Equal(100, thrown);

        void Throw()
        {
            Interlocked.Increment(ref thrown);
            throw new InvalidOperationException("no exporter");
        }
    }

    private sealed class Unspeakable : Exception
    {
        public override string Message => throw new InvalidOperationException("not even this");

        public override string ToString() => throw new InvalidOperationException("nor that");
    }

    /// <summary>As the console does: it writes down what an exception says while the caller waits.</summary>
    private sealed class Scribe : ILoggerProvider, ILogger
    {
        public ILogger CreateLogger(string categoryName) => this;

        public IDisposable? BeginScope<TState>(TState state) where TState : notnull => null;

        public bool IsEnabled(LogLevel logLevel) => true;

        public void Log<TState>(LogLevel logLevel, EventId eventId, TState state, Exception? exception,
            Func<TState, Exception?, string> formatter) => _ = formatter(state, exception) + exception;

        public void Dispose()
        {
        }
    }

    [Theory]
    [InlineData(1)]
    [InlineData(10)]
    public async Task An_exception_that_cannot_be_written_down_ends_no_handler(int batch)
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var seen = new ConcurrentDictionary<int, bool>();
        await crossing.StartAsync(
            "fares",
            c => c.Receive("taps", q =>
            {
                (q.Options.BatchSize, q.Options.MaxAttempts, q.Options.FirstDelay, q.Options.MaxDelay) =
                    (batch, 2, TimeSpan.Zero, TimeSpan.Zero);
                if (batch == 1) q.Handle<Tap, TapReceiver>();
                else q.HandleBatches<Tap, Batches>();
            }),
            services: s => s.AddSingleton(new Log { OnTap = (d, _) => Handle(d.Data.Number) })
                .AddSingleton<Func<int, Task>>(Handle).AddLogging(l => l.AddProvider(new Scribe())));
        await PublishAsync(crossing, 100);
        await crossing.SettledAsync(deadLetters: 10);
        Assert.Equal(90, seen.Count);

        Task Handle(int number)
        {
            if (number % 10 == 3) throw new Unspeakable();
            seen[number] = true;
            return Task.CompletedTask;
        }
    }

    private sealed class Batches(Func<int, Task> handle) : IBatchReceiver<Tap>
    {
        public async Task HandleAsync(DeliveryBatch<Tap> batch, CancellationToken cancellationToken)
        {
            foreach (var item in batch) await handle(item.Data.Number);
        }
    }

    private sealed class Sour : IDisposable
    {
        public void Dispose() => throw new IOException("the drawer is stuck");
    }

    private sealed class SourReceiver(Sour sour, Log log) : IReceiver<Tap>
    {
        public Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
        {
            GC.KeepAlive(sour);
            log.Taps.Enqueue(delivery);
            return delivery.BeginAsync(cancellationToken);
        }
    }

    [Fact]
    public async Task What_fails_after_the_commit_changes_no_outcome()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var (log, reports) = (new Log(), new Reports());
        await crossing.StartAsync(
            "fares",
            c => c.Receive("taps", q => q.RejectOn<IOException>().Handle<Tap, SourReceiver>()),
            services: s => s.AddSingleton(log).AddScoped<Sour>().AddSingleton<ILoggerFactory>(reports));
        await PublishAsync(crossing, 3);
        await crossing.SettledAsync(deadLetters: 0);
        Assert.Equal(3, log.Taps.Count);
        Assert.Equal(3, (await crossing.SharedStore("fares").Inbox.ReadAsync("taps")).Count);
        Assert.Equal(3, reports.Lines.Count(
            line => line.EndsWith("failed; its outcome stands", StringComparison.Ordinal)));
    }

    [Fact]
    public async Task What_has_not_begun_at_a_stop_goes_back_at_once_even_if_a_handler_blocks_its_thread()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        using var finish = new ManualResetEventSlim();
        var begun = new TaskCompletionSource();
        var log = new Log
        {
            OnTap = (_, _) =>
            {
                begun.TrySetResult();
                finish.Wait(Crossing.Limit, CancellationToken.None);
                return Task.CompletedTask;
            },
        };
        // Nothing here ends by a limit.
        var fares = await StartFaresAsync(
            crossing, log, q => (q.Options.Prefetch, q.Options.StopLimit) = (5, TimeSpan.FromHours(1)));
        await PublishAsync(crossing, 5);
        await begun.Task.WaitAsync(Crossing.Limit);
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).InHand == 5, "five are in hand");

        var stopping = fares.StopAsync();
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { InHand: 1, Ready: 4 }, "four have gone back");
        Assert.All((await crossing.Reports.PeekAsync("taps", 10)).Where(e => e.State == QueuedState.Ready),
            e => Assert.Equal(0, e.Attempts));
        Assert.False(stopping.IsCompleted);
        finish.Set();
        await stopping.WaitAsync(Crossing.Limit);
        Assert.Single(log.Taps);
        Assert.Equal((0, 4), ((int)(await crossing.FiguresAsync("taps")).InHand!,
            (int)(await crossing.FiguresAsync("taps")).Ready!));
    }

    [Fact]
    public async Task A_stop_does_not_wait_for_a_broker_that_is_away()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var engine = new TroubledEngine(crossing.Engine);
        crossing.Engine = engine;
        var tried = new TaskCompletionSource();
        engine.Before = call =>
        {
            if (call != "SettleAsync") return;
            tried.TrySetResult();
            throw Away();
        };
        // Settling would be tried for an hour.
        var fares = await StartFaresAsync(crossing, new Log(),
            q => (q.Options.Lease, q.Options.StopLimit) = (TimeSpan.FromHours(1), TimeSpan.FromMilliseconds(10)));
        await PublishAsync(crossing, 1);
        await tried.Task.WaitAsync(Crossing.Limit);
        await fares.StopAsync().WaitAsync(Crossing.Limit);
    }

    [Fact]
    public async Task What_is_away_at_the_start_is_waited_for_and_what_is_wrong_fails_it()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var engine = new TroubledEngine(crossing.Engine);
        crossing.Engine = engine;
        var (tries, reports) = (0, new Reports());
        engine.Before = call =>
        {
            if (call == "PrepareAsync" && Interlocked.Increment(ref tries) <= 2) throw Away();
        };
        var (log, prepared) = (new Log(), new ConcurrentQueue<int>());
        await crossing.StartAsync(
            "fares",
            c => c.PrepareStore((store, cancel) => PrepareAsync(store, prepared, log.Taps.Count, cancel))
                .Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(log).AddSingleton<ILoggerFactory>(reports));
        Assert.Contains(reports.Lines, line => line.StartsWith("Started, but not ready", StringComparison.Ordinal)
            && line.EndsWith("the line is dead", StringComparison.Ordinal));
        await PublishAsync(crossing, 3);
        await crossing.SettledAsync();
        Assert.Equal((3, 3), (tries, log.Taps.Count));
        // The service's own tables are there before anything is handled; it may be asked for them again.
        Assert.Equal([0, 0, 0], prepared);

        engine.Before = call =>
        {
            if (call == "PrepareAsync") throw new CourierException("no such user");
        };
        var error = await Assert.ThrowsAsync<CourierException>(() => StartFaresAsync(crossing, log));
        Assert.Equal("no such user", error.Message);

        static async Task PrepareAsync(
            IStore store, ConcurrentQueue<int> prepared, int handled, CancellationToken cancel)
        {
            await using var connection = await store.OpenConnectionAsync(cancel);
            await connection.ExecuteAsync("CREATE TABLE IF NOT EXISTS charge (number INTEGER)");
            prepared.Enqueue(handled);
        }
    }

    [Fact]
    public async Task A_process_that_is_asked_to_stop_while_it_starts_ends_in_order()
    {
        await using var crossing = new Crossing(new TPlace());
        using var rig = new Rig(crossing, "receive", "fares", $"Rig:StopAt={FaultPoint.StorePreparedOnly}");
        Assert.Equal(0, await rig.EndsAsync());
        Assert.DoesNotContain(rig.Lines, line => line.Contains("nhandled", StringComparison.Ordinal));
    }
}
