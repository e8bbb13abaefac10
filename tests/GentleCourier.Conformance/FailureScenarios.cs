using System.Collections.Concurrent;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

internal sealed class Fixed(int number)
{
    public int Number => number;
}

internal sealed class NeedyReceiver(Fixed needed, Log log) : IReceiver<Tap>
{
    public Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
    {
        GC.KeepAlive(needed);
        log.Taps.Enqueue(delivery);
        return Task.CompletedTask;
    }
}

internal sealed class Needs(NeedyReceiver receiver) : IReceiver<Tap>
{
    public Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken) =>
        receiver.HandleAsync(delivery, cancellationToken);
}

internal sealed class ChargedReceiver(ConcurrentQueue<int> charged) : IReceiver<Charged>
{
    public Task HandleAsync(Delivery<Charged> delivery, CancellationToken cancellationToken)
    {
        charged.Enqueue(delivery.Data.Number);
        return Task.CompletedTask;
    }
}

/// <summary>A mistake or an outage around the receivers costs time, and no event.</summary>
public abstract class FailureScenarios<TPlace> where TPlace : Place, new()
{
    private const int MostLogged = 100_000;

    private static Task<IHost> StartFaresAsync(Crossing crossing, Log log, Reports reports,
        Action<QueueBinding>? bind = null, TimeProvider? clock = null, string service = "fares") =>
        crossing.StartAsync(
            service,
            courier => courier.Receive("taps", queue =>
            {
                queue.Handle<Tap, TapReceiver>();
                bind?.Invoke(queue);
            }),
            services: services =>
            {
                services.AddSingleton(log).AddSingleton<ILoggerFactory>(reports);
                if (clock is not null) services.AddSingleton(clock);
            });

    private static async Task PublishAsync(IBroker broker, int count, int first = 0) =>
        await broker.PublishAsync([.. Enumerable.Range(first, count).Select(i => Crossing.TapEvent(i))]);

    [Fact]
    public async Task A_receiver_that_lacks_a_service_fails_the_start_and_says_which()
    {
        await using var crossing = new Crossing(new TPlace());
        var host = crossing.Build("fares", c => c.Receive("taps", q => q.Handle<Tap, Needs>()),
            services: s => s.AddScoped<NeedyReceiver>().AddSingleton(new Log()));
        var error = await Assert.ThrowsAsync<CourierException>(() => host.StartAsync());
        Assert.Equal(
            "the receiver Needs of queue 'taps' cannot be built: Needs needs NeedyReceiver; NeedyReceiver needs Fixed, "
            + "and no such service is registered; register it before the host starts", error.Message);
    }

    [Fact]
    public async Task A_receiver_that_cannot_be_built_for_the_moment_costs_no_event_its_attempts()
    {
        await using var crossing = new Crossing(new TPlace());
        var (log, reports, isThere) = (new Log(), new Reports(), false);
        await crossing.RouteAsync(("test.tap", "taps"));
        await PublishAsync(crossing.Broker(), 300);
        await crossing.StartAsync("fares", c => c.Receive("taps", q => q.Handle<Tap, NeedyReceiver>()),
            services: s => s.AddSingleton(log).AddSingleton<ILoggerFactory>(reports).AddScoped(
                _ => Volatile.Read(ref isThere) ? new Fixed(1) : throw new IOException("no such fare table")));
        await Crossing.UntilAsync(() => Task.FromResult(Says(reports, "the brake is on for all events")), "it brakes");
        Volatile.Write(ref isThere, true);
        await crossing.SettledAsync(deadLetters: 0);
        Assert.Equal(300, log.Taps.Count);
        Assert.All(log.Taps, tap => Assert.Equal(1, tap.Attempt));
        Assert.Contains(reports.Lines, line => line.Contains(
            "Fixed cannot be built", StringComparison.Ordinal) || line.Contains(
            "NeedyReceiver cannot be built: IOException: no such fare table", StringComparison.Ordinal));
        Assert.InRange(reports.Size, 0, MostLogged);
    }

    /// <summary>A receiver that wants to do without what is away knows how often it has tried in vain.</summary>
    [Fact]
    public async Task What_does_not_count_is_told_of_apart()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log
        {
            OnTap = (tap, _) => (tap.Attempt, tap.Uncounted) switch
            {
                (_, < 2) => throw new CourierException("the chart is away") { IsTransient = true },
                (1, _) => throw new RetryException(TimeSpan.FromMilliseconds(1), "the tide is low"),
                _ => Task.CompletedTask,
            },
        };
        await crossing.RouteAsync(("test.tap", "taps"));
        await StartFaresAsync(crossing, log, new Reports());
        await PublishAsync(crossing.Broker(), 1);
        await crossing.SettledAsync(deadLetters: 0);
        Assert.Equal(
            [(1, 0), (1, 1), (1, 2), (2, 2)], log.Taps.Select(tap => (tap.Attempt, tap.Uncounted)));
    }

    /// <summary>What stands behind the receiver is away for an hour, in simulated time.</summary>
    [Theory]
    [InlineData(false, 1, 20)]
    [InlineData(false, 4, 20)]
    [InlineData(true, 1, 20)]
    [InlineData(true, 4, 4)]
    public async Task An_hour_without_what_stands_behind_a_receiver_sets_nothing_aside(
        bool rejects, int parallel, int prefetch)
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var back = clock.GetUtcNow().AddHours(1);
        var (tries, handled, reports) = (0, new ConcurrentDictionary<int, int>(), new Reports());
        var log = new Log
        {
            OnTap = (delivery, _) =>
            {
                Interlocked.Increment(ref tries);
                if (clock.GetUtcNow() < back)
                    throw rejects ? new RejectException("unknown tenant") : new HttpRequestException("refused");
                handled.AddOrUpdate(delivery.Data.Number, 1, (_, times) => times + 1);
                return Task.CompletedTask;
            },
        };
        await StartFaresAsync(crossing, log, reports,
            q => (q.Options.Parallel, q.Options.Prefetch) = (parallel, prefetch), clock);
        await PublishAsync(crossing.AnotherBroker(clock), 300);
        // Nothing is to be learned from time before the first have failed.
        await Crossing.UntilAsync(() => Task.FromResult(Says(reports, "the brake is on for events of type test.tap")),
            "it brakes");
        await Crossing.UntilAsync(
            clock, TimeSpan.FromSeconds(10), () => Task.FromResult(clock.GetUtcNow() >= back), "it is back");
        await Crossing.UntilAsync(
            clock, TimeSpan.FromSeconds(1), () => Task.FromResult(handled.Count == 300), "all are handled");
        await crossing.SettledAsync(deadLetters: 0);
        Assert.All(handled.Values, times => Assert.Equal(1, times));
        Assert.InRange(tries, 305, 1_000);
        Assert.True(Says(reports, "the brake is off"));
        Assert.InRange(reports.Size, 0, MostLogged);
    }

    [Fact]
    public async Task A_store_that_is_full_for_a_minute_sets_nothing_aside()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var engine = new TroubledEngine(crossing.Engine);
        crossing.Engine = engine;
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var relieved = clock.GetUtcNow().AddMinutes(1);
        var (log, reports) = (new Log { OnTap = (d, cancel) => d.BeginAsync(cancel) }, new Reports());
        engine.BeforeStore = call =>
        {
            if (call == nameof(IInboxPort.BeginHandlingAsync) && clock.GetUtcNow() < relieved)
                throw new CourierException("the disk is full") { IsTransient = true };
        };
        await StartFaresAsync(crossing, log, reports, q => q.Options.MaxAttempts = 2, clock);
        await PublishAsync(crossing.AnotherBroker(clock), 300);
        await Crossing.UntilAsync(
            () => Task.FromResult(Says(reports, "the brake is on for all events")), "it brakes");
        await Crossing.UntilAsync(
            clock, TimeSpan.FromSeconds(1),
            async () => (await crossing.SharedStore("fares").Inbox.ReadAsync("taps")).Count == 300,
            "all are handled");
        await crossing.SettledAsync(deadLetters: 0);
        Assert.InRange(reports.Size, 0, MostLogged);
    }

    [Fact]
    public async Task In_a_deployment_events_that_only_new_instances_know_wait_for_those()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"), ("test.charged", "taps"));
        var (log, reports, charged) = (new Log(), new Reports(), new ConcurrentQueue<int>());
        await StartFaresAsync(crossing, log, reports);
        await crossing.Broker().PublishAsync(
            [.. Enumerable.Range(0, 200).SelectMany(i => new[] { Crossing.TapEvent(i), Crossing.ChargedEvent(i) })]);
        // The rest of the queue goes on.
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 200), "all that is known is handled");
        Assert.True(Says(reports, "no receiver for type 'test.charged' on queue 'taps'; it handles test.tap"));

        await crossing.StartAsync("fares", c => c.Receive("taps",
                q => q.Handle<Tap, TapReceiver>().Handle<Charged, ChargedReceiver>()),
            services: s => s.AddSingleton(log).AddSingleton(charged));
        await crossing.SettledAsync(deadLetters: 0);
        Assert.Equal(Enumerable.Range(0, 200), charged.Order());
        Assert.InRange(reports.Size, 0, MostLogged);
    }

    [Fact]
    public async Task A_type_that_nobody_knows_is_set_aside_once_patience_is_at_its_end()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.charged", "taps"));
        var (clock, reports) = (new FakeTimeProvider(DateTimeOffset.UtcNow), new Reports());
        await StartFaresAsync(crossing, new Log(), reports, clock: clock);
        var broker = crossing.AnotherBroker(clock);
        await broker.PublishAsync([Crossing.ChargedEvent(1)]);
        await Crossing.UntilAsync(
            async () => (await broker.Reports!.ReadFiguresAsync()).Queues[0].Scheduled == 1, "it waits");
        clock.Advance(TimeSpan.FromHours(23));
        await Crossing.UntilAsync(() => Task.FromResult(
            reports.Lines.Count(l => l.StartsWith("Queue taps: test.charged c1 goes back", StringComparison.Ordinal))
            == 2), "it goes back once more");
        await Crossing.UntilAsync(
            clock, TimeSpan.FromMinutes(1),
            async () => (await crossing.DeadLetters.ReadAsync("taps", 1)).Count == 1,
            "it is set aside");
        var letter = (await crossing.DeadLetters.ReadAsync("taps", 1))[0];
        Assert.Equal("no receiver for type 'test.charged' on queue 'taps'; it handles test.tap", letter.Reason);
        Assert.InRange(letter.SetAside - letter.FirstAttempt!.Value, TimeSpan.FromDays(1), TimeSpan.FromHours(25));
        // Whoever reads the log finds it.
        var line = $"Queue taps: test.charged c1 is set aside as dead letter {letter.Id}: {letter.Reason}";
        await Crossing.UntilAsync(() => Task.FromResult(reports.Lines.Contains(line)), "the log says so");
    }

    [Fact]
    public async Task One_poison_event_among_good_ones_is_set_aside_and_brakes_nothing()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var reports = new Reports();
        var log = new Log
        {
            OnTap = (d, _) => d.Data.Number == 3 ? throw new FormatException("no such pier") : Task.CompletedTask,
        };
        await StartFaresAsync(crossing, log, reports, q => (q.Options.FirstDelay, q.Options.MaxDelay) =
            (TimeSpan.FromMilliseconds(1), TimeSpan.FromMilliseconds(20)));
        await PublishAsync(crossing.Broker(), 300);
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Equal(Enumerable.Range(1, 12),
            log.Taps.Where(t => t.Data.Number == 3).Select(t => t.Attempt));
        Assert.Equal(299, log.Taps.Count(t => t.Data.Number != 3));
        Assert.False(Says(reports, "brake"));
        // The stack once, at its first failure, and the receiver, the event and the attempt in each line and scope.
        Assert.Single(reports.Errors);
        Assert.Contains(reports.Lines, line => line.Contains(
            "TapReceiver failed at test.tap 3, attempt 1 of 12; next in 00:00:00: FormatException: no such pier",
            StringComparison.Ordinal));
        Assert.Contains(reports.Scopes, scope => scope.StartsWith("Queue: taps, Worker: ", StringComparison.Ordinal)
            && scope.EndsWith("Receiver: TapReceiver, EventType: test.tap, EventId: 3, Attempt: 2",
                StringComparison.Ordinal));
        Assert.InRange(reports.Size, 0, MostLogged);
    }

    /// <summary>They look like an outage; whatever waits behind them is reached all the same.</summary>
    [Fact]
    public async Task Many_bad_events_in_front_of_good_ones_are_passed_by()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var handled = new ConcurrentDictionary<int, bool>();
        var log = new Log
        {
            OnTap = (d, _) => d.Data.Number < 100 ? throw new FormatException("no such pier")
                : Task.FromResult(handled[d.Data.Number] = true),
        };
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await PublishAsync(crossing.AnotherBroker(clock), 150);
        await StartFaresAsync(crossing, log, new Reports(), clock: clock);
        await Crossing.UntilAsync(
            clock, TimeSpan.FromMilliseconds(200),
            () => Task.FromResult(handled.Count == 50),
            "the good ones are handled");
    }

    [Fact]
    public async Task A_few_rejections_and_nothing_else_are_set_aside_soon()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var reports = new Reports();
        var log = new Log { OnTap = (_, _) => throw new RejectException("no such pier") };
        await StartFaresAsync(crossing, log, reports);
        await PublishAsync(crossing.Broker(), 12);
        await crossing.SettledAsync(deadLetters: 12);
        Assert.Equal(12, log.Taps.Count);
        Assert.False(Says(reports, "brake"));
    }

    [Fact]
    public async Task Who_receives_says_so_until_it_ends_and_is_forgotten_when_it_is_not_heard_of()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var (clock, finish) = (new FakeTimeProvider(DateTimeOffset.UtcNow), new TaskCompletionSource());
        var log = new Log
        {
            OnTap = (d, _) => d.Data.Number switch
            {
                0 => finish.Task,
                1 => throw new RejectException("no such pier"),
                _ => Task.CompletedTask,
            },
        };
        var broker = crossing.AnotherBroker(clock);
        await PublishAsync(broker, 10);
        var fares = await StartFaresAsync(crossing, log, new Reports(),
            q => (q.Options.Parallel, q.Options.TimeLimit) = (2, TimeSpan.FromHours(1)), clock);
        WorkerFigures? worker = null;
        await Crossing.UntilAsync(
            clock, TimeSpan.FromSeconds(1),
            async () =>
            {
                worker = (await broker.Reports!.ReadFiguresAsync()).Workers!.SingleOrDefault();
                return worker is { Receivers: [{ Handled: 8 }] };
            },
            "it says that it has handled eight");
        var receiver = Assert.Single(worker!.Receivers);
        Assert.Equal(("taps", "20", 2, 1, 1L, null, null), (receiver.Queue, receiver.Prefetch, receiver.Parallel,
            receiver.Running, receiver.Failed, receiver.Brake, receiver.Problem));
        Assert.Equal(["test.tap"], receiver.Types);
        Assert.EndsWith($"/{Environment.ProcessId}", worker.Worker, StringComparison.Ordinal);
        Assert.InRange(receiver.Longest!.Value, TimeSpan.Zero, TimeSpan.FromHours(1));
        Assert.Equal(TimeSpan.FromHours(1), receiver.TimeLimit);

        // One that is killed says nothing any more.
        await broker.Register!.BeatAsync(worker with { Id = "another" }, TimeSpan.FromSeconds(35));
        Assert.Equal(2, (await broker.Reports!.ReadFiguresAsync()).Workers!.Count);
        clock.Advance(TimeSpan.FromSeconds(36));
        Assert.DoesNotContain((await broker.Reports!.ReadFiguresAsync()).Workers!, w => w.Id == "another");

        finish.SetResult();
        await fares.StopAsync().WaitAsync(Crossing.Limit);
        Assert.Empty((await broker.Reports!.ReadFiguresAsync()).Workers!);
    }

    [Fact]
    public async Task A_brake_for_one_type_lets_the_others_of_its_queue_pass()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"), ("test.charged", "taps"));
        var (reports, charged, isBack) = (new Reports(), new ConcurrentQueue<int>(), false);
        var handled = new ConcurrentDictionary<int, int>();
        var log = new Log
        {
            OnTap = (d, _) => Volatile.Read(ref isBack) ? Task.FromResult(handled[d.Data.Number] = d.Attempt)
                : throw new HttpRequestException("refused"),
        };
        await crossing.StartAsync("fares", c => c.Receive("taps",
                q => q.Handle<Tap, TapReceiver>().Handle<Charged, ChargedReceiver>()),
            services: s => s.AddSingleton(log).AddSingleton(charged).AddSingleton<ILoggerFactory>(reports));
        await PublishAsync(crossing.Broker(), 200);
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 200).Select(Crossing.ChargedEvent)]);
        await Crossing.UntilAsync(() => Task.FromResult(charged.Count == 200), "the others have passed");
        Assert.True(Says(reports, "the brake is on for events of type test.tap"));
        Volatile.Write(ref isBack, true);
        await crossing.SettledAsync(deadLetters: 0);
        Assert.Equal(Enumerable.Range(0, 200), handled.Keys.Order());
        // Only those that put it on have used up attempts: up to five, and the two at once of each.
        Assert.InRange(handled.Values.Count(attempt => attempt > 1), 0, 5);
    }

    [Fact]
    public async Task Failures_of_batches_brake_as_well()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var (reports, isBack, calls) = (new Reports(), false, 0);
        var handled = new ConcurrentDictionary<int, int>();
        await crossing.StartAsync(
            "fares",
            c => c.Receive("taps", q =>
            {
                (q.Options.BatchSize, q.Options.Prefetch) = (50, 100);
                q.HandleBatches<Tap, Batches>();
            }),
            services: s => s.AddSingleton<ILoggerFactory>(reports).AddSingleton<Action<DeliveryBatch<Tap>>>(batch =>
            {
                Interlocked.Increment(ref calls);
                if (!Volatile.Read(ref isBack)) throw new HttpRequestException("refused");
                foreach (var item in batch) handled[item.Data.Number] = item.Attempt;
            }));
        await PublishAsync(crossing.Broker(), 500);
        await Crossing.UntilAsync(() => Task.FromResult(Says(reports, "the brake is on for events of type test.tap")),
            "it brakes");
        Volatile.Write(ref isBack, true);
        await crossing.SettledAsync(deadLetters: 0);
        Assert.Equal(Enumerable.Range(0, 500), handled.Keys.Order());
        // A batch and five of it put the brake on.
        Assert.InRange(calls, 0, 100);
        Assert.InRange(handled.Values.Count(attempt => attempt > 1), 0, 5);
    }

    private sealed class Batches(Action<DeliveryBatch<Tap>> handle) : IBatchReceiver<Tap>
    {
        public Task HandleAsync(DeliveryBatch<Tap> batch, CancellationToken cancellationToken)
        {
            handle(batch);
            return Task.CompletedTask;
        }
    }

    [Fact]
    public async Task No_more_begin_in_a_second_than_the_queue_allows()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var (clock, begun) = (new FakeTimeProvider(DateTimeOffset.UtcNow), new ConcurrentQueue<DateTimeOffset>());
        var log = new Log
        {
            OnTap = (_, _) =>
            {
                begun.Enqueue(clock.GetUtcNow());
                return Task.CompletedTask;
            },
        };
        await StartFaresAsync(crossing, log, new Reports(),
            q => (q.Options.MaxPerSecond, q.Options.Parallel) = (10, 2), clock);
        await PublishAsync(crossing.AnotherBroker(clock), 40);
        await Crossing.UntilAsync(
            clock, TimeSpan.FromMilliseconds(20),
            () => Task.FromResult(begun.Count == 40),
            "all are handled");
        var times = begun.Order().ToList();
        for (var i = 0; i + 12 < times.Count; i++)
            Assert.True(times[i + 12] - times[i] >= TimeSpan.FromSeconds(1), $"12 from {i} on within a second");
    }

    private static bool Says(Reports reports, string what) =>
        reports.Lines.Any(line => line.Contains(what, StringComparison.Ordinal));
}
