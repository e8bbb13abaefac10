using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>What a broker counts, and tells of the last minutes; what a store tells of a large outbox.</summary>
public abstract class WatchingScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly TimeSpan Lease = TimeSpan.FromSeconds(30), Second = TimeSpan.FromSeconds(1);

    /// <summary>Any outcomes in any order: each is counted once, and none of it is forgotten.</summary>
    [Fact]
    public async Task What_came_was_accepted_set_aside_or_waits_and_each_failure_counts()
    {
        // More than are taken, so that some are left however long those for later wait.
        const int Count = 400;
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"), ("test.tap", "others"));
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var broker = crossing.AnotherBroker(clock);
        await broker.PublishAsync([.. Enumerable.Range(0, Count).Select(i => Crossing.TapEvent(i))]);
        var link = await broker.OpenLinkAsync("taps", "pier/7", Lease);
        var random = new Random(614);
        var (accepted, failed, aside) = (0L, 0L, 0L);
        for (var round = 0; round < 12; round++)
        {
            var taken = (await link.SettleAsync([], 30, CancellationToken.None)).Deliveries;
            await link.SettledAsync([.. taken.Select(delivery => new Settlement(delivery, random.Next(6) switch
            {
                0 => new Outcome.Modified(default, "again"),
                1 => new Outcome.Modified(3 * Second, "later"),
                2 => new Outcome.Modified(3 * Second, "not its fault") { Counts = false },
                3 => new Outcome.Rejected("no such pier", null),
                4 => Outcome.Released,
                _ => Outcome.Accepted,
            }).Counting(ref accepted, ref failed, ref aside))]);
            clock.Advance(Second);
            await AgreesAsync(broker);
        }
        // A worker is killed with ten in hand; those are neither handled nor failed.
        Assert.NotEmpty((await link.SettleAsync([], 10, CancellationToken.None)).Deliveries);
        await link.DisposeAsync();
        clock.Advance(Lease + Second);
        await AgreesAsync(crossing.AnotherBroker(clock));

        async Task AgreesAsync(IBroker asked)
        {
            var queues = (await asked.Reports!.ReadFiguresAsync()).Queues;
            var (figures, counts) = (queues[1], queues[1].History[^1]);
            Assert.Equal((Count, accepted, failed, aside),
                (counts.Came, counts.Accepted, counts.Failed, counts.SetAside));
            Assert.Equal((aside, counts.Came - counts.Accepted - counts.SetAside),
                (figures.DeadLetters, figures.Waiting));
            var states = (await asked.Reports!.PeekAsync("taps", 1000)).CountBy(e => e.State).ToDictionary();
            Assert.Equal((Of(QueuedState.Ready), Of(QueuedState.InHand), Of(QueuedState.Scheduled)),
                ((int)figures.Ready!, (int)figures.InHand!, (int)figures.Scheduled!));
            Assert.Equal(
                ("others", Count, 0), (queues[0].Queue, (int)queues[0].Ready!, queues[0].History[^1].Accepted));

            int Of(QueuedState state) => states.GetValueOrDefault(state);
        }
    }

    [Fact]
    public async Task The_last_ten_minutes_are_remembered_ten_seconds_apart_however_many_workers_there_are()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var broker = crossing.AnotherBroker(clock);
        WorkerFigures[] workers = [.. "abc".Select(id =>
            new WorkerFigures($"{id}", $"pier/{id}", "1.0", clock.GetUtcNow(), []))];
        for (var beat = 0; beat < 240; beat++)
        {
            if (beat % 8 == 0) await broker.PublishAsync([Crossing.TapEvent(beat)]);
            await broker.Register!.BeatAsync(workers[beat % 3], TimeSpan.FromSeconds(35));
            clock.Advance(5 * Second);
        }
        var figures = await broker.Reports!.ReadFiguresAsync();
        var history = figures.Queues[0].History;
        // Sixty places, and the count of this moment.
        Assert.Equal(61, history.Count);
        Assert.Equal((30, figures.At), (history[^1].Came, history[^1].At));
        Assert.All(history.Zip(history.Skip(1)).SkipLast(1), pair =>
            Assert.Equal(10, (pair.Second.At - pair.First.At).TotalSeconds));
        // Of 30 in 20 minutes: one in forty seconds.
        Assert.Equal(1.5, QueueRates.Of(history)!.Arrivals * 60, 0.4);
    }

    [Fact]
    public async Task A_worker_says_how_far_its_clock_is_from_the_brokers()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var broker = crossing.AnotherBroker(clock);
        await broker.Register!.BeatAsync(
            new WorkerFigures("1", "pier/7", "1.0", clock.GetUtcNow(), []) { Said = clock.GetUtcNow().AddHours(1) },
            TimeSpan.FromSeconds(35));
        clock.Advance(3 * Second);
        var worker = Assert.Single((await broker.Reports!.ReadFiguresAsync()).Workers!);
        Assert.Equal((3, 3600), (worker.Seen.TotalSeconds, worker.Ahead!.Value.TotalSeconds));
    }

    [Fact]
    public async Task A_large_outbox_is_counted_by_its_span_and_a_small_one_event_by_event()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var host = crossing.Build("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        await host.StartAsync();
        var (store, outbox) = (crossing.SharedStore("harbour"), host.Services.GetRequiredService<IOutbox>());
        await AddAsync(OutboxCount.Fresh, commit: true);
        Assert.Equal((OutboxCount.Fresh, Precision.Exact), await FiguresAsync());
        // What is rolled back may leave numbers that nobody has.
        await AddAsync(100, commit: false);
        await AddAsync(5_000, commit: true);
        var (waiting, precision) = await FiguresAsync();
        Assert.Equal(Precision.AtMost, precision);
        Assert.InRange(waiting, OutboxCount.Fresh + 5_000, OutboxCount.Fresh + 5_100);

        async Task<(long, Precision)> FiguresAsync() =>
            await store.ReadOutboxFiguresAsync() is var figures ? (figures.Waiting, figures.Precision) : default;

        async Task AddAsync(int count, bool commit)
        {
            await using var connection = await store.OpenConnectionAsync();
            await using var transaction = await connection.BeginTransactionAsync();
            await outbox.AddManyAsync(
                transaction, [.. Enumerable.Range(0, count).Select(i => EventDraft.Of(new Tap(i)))]);
            if (commit) await transaction.CommitAsync();
            else await transaction.RollbackAsync();
        }
    }

    [Fact]
    public async Task A_service_reads_the_same_status_of_itself_and_what_is_away_is_a_finding()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var engine = new TroubledEngine(crossing.Engine);
        crossing.Engine = engine;
        var host = await crossing.StartAsync("harbour");
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        var reader = host.Services.GetRequiredService<ICourierStatus>();
        var status = await reader.ReadAsync();
        Assert.Equal(("taps", 1, false), (status.Queues[0].Figures.Queue, status.Queues[0].Figures.Ready,
            status.IsDrained));
        Assert.Equal("queue-unreceived", Assert.Single(status.Findings).Code);
        Assert.Equal(0, Assert.Single(status.Stores).Outbox.Waiting);

        engine.BeforeStore = call =>
        {
            if (call == nameof(IStorePort.ReadOutboxFiguresAsync)) throw new CourierException("it is away");
        };
        status = await reader.ReadAsync();
        Assert.Equal(["store-unreachable", "queue-unreceived"], status.Findings.Select(f => f.Code));
        Assert.Equal("it is away", status.Findings[0].What);
        Assert.Empty(status.Stores);
        Assert.False(status.IsDrained);
    }

    [Fact]
    public async Task A_broker_and_a_store_are_looked_over_and_what_is_missing_is_named_with_its_remedy()
    {
        await using var crossing = new Crossing(new TPlace());
        var (broker, store) = (crossing.Broker(), crossing.SharedStore("harbour"));
        var before = await ExaminedAsync((IExaminable)store);
        Assert.Contains(before, c => c is { Result: CheckResult.Wrong }
            && c.Said.Contains("courier schema apply", StringComparison.Ordinal));
        await crossing.RouteAsync(("test.tap", "taps"));
        await store.PrepareAsync(create: true);
        foreach (var made in new[] { broker.Services.Examination!, (IExaminable)store })
        {
            var checks = await ExaminedAsync(made);
            Assert.All(checks, c => Assert.Equal(CheckResult.Good, c.Result));
            Assert.Contains(checks, c => c.Name == "tables");
            Assert.Contains(checks, c => c.Name == "rights");
        }

        static async Task<List<Check>> ExaminedAsync(IExaminable examined)
        {
            var checks = new List<Check>();
            await foreach (var check in examined.ExamineAsync()) checks.Add(check);
            return checks;
        }
    }
}

file static class Settling
{
    /// <summary>Counts what is to become of it.</summary>
    public static Settlement Counting(this Settlement settlement, ref long accepted, ref long failed, ref long aside)
    {
        switch (settlement.Outcome)
        {
            case Outcome.AcceptedOutcome: accepted++; break;
            case Outcome.Modified { Counts: true }: failed++; break;
            case Outcome.Rejected: aside++; break;
        }
        return settlement;
    }
}
