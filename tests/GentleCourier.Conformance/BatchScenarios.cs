using System.Collections.Concurrent;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

public abstract class BatchScenarios<TPlace> where TPlace : Place, new()
{
    private sealed class BatchLog
    {
        public ConcurrentQueue<int[]> Batches { get; } = [];

        public Func<DeliveryBatch<Tap>, CancellationToken, Task> OnBatch { get; init; } = (_, _) => Task.CompletedTask;
    }

    private sealed class TapBatches(BatchLog log) : IBatchReceiver<Tap>
    {
        public async Task HandleAsync(DeliveryBatch<Tap> batch, CancellationToken cancellationToken)
        {
            log.Batches.Enqueue([.. batch.Select(item => item.Data.Number)]);
            await log.OnBatch(batch, cancellationToken);
        }
    }

    /// <summary>A service with a table of charges, and a receiver of batches that is not started yet.</summary>
    private static async Task<IHost> BuildFaresAsync(
        Crossing crossing, BatchLog log, Action<ReceiverOptions> limits, TimeProvider? clock = null)
    {
        await crossing.RouteAsync(("test.tap", "taps"));
        var fares = crossing.Build(
            "fares",
            c => c.Receive("taps", q =>
            {
                (q.Options.Prefetch, q.Options.BatchWait) = (50, TimeSpan.FromMilliseconds(200));
                limits(q.Options);
                q.HandleBatches<Tap, TapBatches>();
            }),
            services: s =>
            {
                s.AddSingleton(log);
                if (clock is not null) s.AddSingleton(clock);
            });
        await fares.Store().PrepareAsync(create: true);
        await using var connection = await fares.Store().OpenConnectionAsync();
        await connection.ExecuteAsync("CREATE TABLE charge (number INTEGER)");
        return fares;
    }

    private static Task<IReadOnlyList<PublishResult>> PublishAsync(Crossing crossing, int count) =>
        crossing.Broker().PublishAsync([.. Enumerable.Range(0, count).Select(i => Crossing.TapEvent(i))]);

    private static async Task ChargeAsync(
        DeliveryBatch<Tap> batch, CancellationToken cancel, Func<BatchedDelivery<Tap>, bool>? where = null)
    {
        var transaction = await batch.BeginAsync(cancel);
        foreach (var item in batch.Where(where ?? (_ => true)))
            await transaction.Connection!.ExecuteAsync("INSERT INTO charge VALUES (@n)", ("@n", item.Data.Number));
    }

    private static async Task<IEnumerable<int>> ChargesAsync(IHost fares) =>
        (await Crossing.NumbersAsync(fares.Store(), "SELECT number FROM charge")).Order();

    [Fact]
    public async Task What_waits_comes_in_full_batches_and_the_rest_after_the_time()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new BatchLog { OnBatch = (batch, cancel) => ChargeAsync(batch, cancel) };
        var fares = await BuildFaresAsync(crossing, log, limits => limits.BatchSize = 10);
        await PublishAsync(crossing, 25);
        await fares.StartAsync();
        await crossing.SettledAsync();
        Assert.Equal([10, 10, 5], log.Batches.Select(b => b.Length));
        Assert.Equal(Enumerable.Range(0, 25), log.Batches.SelectMany(b => b));
        Assert.Equal(Enumerable.Range(0, 25), await ChargesAsync(fares));
        Assert.Equal(25, (await fares.Store().Inbox.ReadAsync("taps")).Count);
    }

    [Fact]
    public async Task Each_event_of_a_batch_has_its_own_outcome()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new BatchLog
        {
            OnBatch = async (batch, cancel) =>
            {
                batch.SingleOrDefault(i => i.Data.Number == 1)?.Fail(new RejectException("no such pier"));
                batch.SingleOrDefault(i => i.Data.Number == 2)?.Fail(
                    new RetryException(TimeSpan.FromHours(1), "not yet"));
                batch.SingleOrDefault(i => i is { Data.Number: 3, Attempt: 1 })?.Fail(
                    new TimeoutException("once more"));
                await ChargeAsync(batch, cancel, i => i.Data.Number is 0 or > 3 || i is { Data.Number: 3, Attempt: 2 });
            },
        };
        var fares = await BuildFaresAsync(crossing, log, limits => limits.BatchSize = 6);
        await PublishAsync(crossing, 6);
        await fares.StartAsync();
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 0, InHand: 0, Scheduled: 1, DeadLetters: 1 },
                "each has its outcome");
        Assert.Equal([[0, 1, 2, 3, 4, 5], [3]], log.Batches);
        Assert.Equal([0, 3, 4, 5], await ChargesAsync(fares));
        Assert.Equal(["0", "3", "4", "5"], (await fares.Store().Inbox.ReadAsync("taps")).Select(e => e.Id).Order());
        Assert.Equal("no such pier", (await crossing.DeadLetters.ReadAsync(null, 1))[0].Reason);
        Assert.Equal("not yet", (await crossing.Reports.PeekAsync("taps", 1))[0].LastError);
    }

    [Fact]
    public async Task A_poison_event_rolls_back_its_batch_and_then_fails_alone()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new BatchLog
        {
            OnBatch = async (batch, cancel) =>
            {
                await ChargeAsync(batch, cancel);
                if (batch.Any(i => i.Data.Number == 2)) throw new InvalidOperationException("poison");
            },
        };
        var fares = await BuildFaresAsync(crossing, log, limits => (limits.BatchSize, limits.MaxAttempts) = (4, 1));
        await PublishAsync(crossing, 4);
        await fares.StartAsync();
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Equal([[0, 1, 2, 3], [0], [1], [2], [3]], log.Batches);
        Assert.Equal([0, 1, 3], await ChargesAsync(fares));
        Assert.Equal(2, Crossing.NumberOf((await crossing.DeadLetters.ReadAsync(null, 1))[0].Json));
    }

    [Fact]
    public async Task Unreadable_events_and_copies_leave_the_batch_and_the_others_are_handled_together()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new BatchLog { OnBatch = (batch, cancel) => ChargeAsync(batch, cancel) };
        var fares = await BuildFaresAsync(crossing, log, limits => limits.BatchSize = 5);
        await using (var earlier = await fares.Store().BeginHandlingAsync(
            "taps", [new InboxEvent("/t", "1")])) await earlier!.CommitAsync([]);
        await crossing.Broker().PublishAsync(
        [
            Crossing.TapEvent(0), Crossing.TapEvent(1),
            new EncodedEvent(
                "x", "test.tap", null,
                """{"specversion":"1.0","id":"x","source":"/t","type":"test.tap","data":{"number":[]}}"""u8.ToArray()),
            new EncodedEvent("y", "test.tap", null, "Longsand;0417"u8.ToArray()),
            Crossing.TapEvent(4),
        ]);
        await fares.StartAsync();
        await crossing.SettledAsync(deadLetters: 2);
        Assert.Equal([0, 4], Assert.Single(log.Batches));
        Assert.Equal([0, 4], await ChargesAsync(fares));
        Assert.Equal(2, (await fares.Store().Inbox.ReadAsync("taps")).Single(e => e.Id == "1").Copies);
    }

    [Fact]
    public async Task Two_copies_in_one_batch_act_once()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new BatchLog { OnBatch = (batch, cancel) => ChargeAsync(batch, cancel) };
        var fares = await BuildFaresAsync(crossing, log, limits => limits.BatchSize = 3);
        await crossing.Broker().PublishAsync([Crossing.TapEvent(7), Crossing.TapEvent(8), Crossing.TapEvent(7)]);
        await fares.StartAsync();
        await crossing.SettledAsync();
        Assert.Equal([7, 8], await ChargesAsync(fares));
    }

    [Fact]
    public async Task A_copy_that_another_handles_in_the_middle_of_a_batch_acts_once_and_the_others_too()
    {
        await using var crossing = new Crossing(new TPlace());
        var other = crossing.Store("fares");
        var log = new BatchLog
        {
            OnBatch = async (batch, cancel) =>
            {
                if (batch.Count == 3)
                {
                    await using var handling = await other.BeginHandlingAsync(
                        "taps", [new InboxEvent("/t", "1")], cancellationToken: cancel);
                    await handling!.Transaction.Connection!.ExecuteAsync("INSERT INTO charge VALUES (1)");
                    await handling.CommitAsync([], cancel);
                }
                await ChargeAsync(batch, cancel);
            },
        };
        var fares = await BuildFaresAsync(crossing, log, limits => limits.BatchSize = 3);
        await PublishAsync(crossing, 3);
        await fares.StartAsync();
        await crossing.SettledAsync();
        Assert.Equal([[0, 1, 2], [0], [2]], log.Batches);
        Assert.Equal([0, 1, 2], await ChargesAsync(fares));
    }

    [Fact]
    public async Task A_batch_that_hangs_is_cut_short_and_only_the_event_that_hangs_fails()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new BatchLog
        {
            OnBatch = async (batch, cancel) =>
            {
                if (batch.Any(i => i.Data.Number == 1)) await Task.Delay(Timeout.Infinite, cancel);
                await ChargeAsync(batch, cancel);
            },
        };
        var fares = await BuildFaresAsync(crossing, log, limits => (
            // Long enough for those that do not hang, on any machine.
            limits.BatchSize, limits.MaxAttempts, limits.TimeLimit) = (3, 1, TimeSpan.FromSeconds(3)));
        await PublishAsync(crossing, 3);
        await fares.StartAsync();
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Equal([0, 2], await ChargesAsync(fares));
        Assert.Contains("ran longer than its time limit",
            (await crossing.DeadLetters.ReadAsync(null, 1))[0].Reason, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_batch_waits_for_its_time_and_no_longer()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var log = new BatchLog();
        var fares = await BuildFaresAsync(
            crossing, log, limits => (limits.BatchSize, limits.BatchWait) = (10, TimeSpan.FromSeconds(20)), clock);
        await fares.StartAsync();
        var broker = crossing.AnotherBroker(clock);
        await broker.PublishAsync([Crossing.TapEvent(0)]);
        await Crossing.UntilAsync(
            async () => (await crossing.FiguresAsync("taps")).InHand == 1, "the first is in hand");
        await broker.PublishAsync([Crossing.TapEvent(1)]);
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).InHand == 2, "the second is too");
        Assert.Empty(log.Batches);
        await Crossing.UntilAsync(
            clock, TimeSpan.FromSeconds(1),
            () => Task.FromResult(log.Batches.Count == 1),
            "the time is over");
        Assert.Equal([0, 1], log.Batches.First());
    }

    [Fact]
    public async Task A_receiver_of_single_events_waits_for_no_batch()
    {
        await using var crossing = new Crossing(new TPlace());
        var (log, clock) = (new Log(), new FakeTimeProvider(DateTimeOffset.UtcNow.AddMinutes(1)));
        await crossing.StartAsync(
            "fares",
            c => c.Receive("taps", q =>
            {
                (q.Options.BatchSize, q.Options.BatchWait) = (20, TimeSpan.FromMinutes(1));
                q.Handle<Tap, TapReceiver>();
            }),
            services: s => s.AddSingleton(log).AddSingleton<TimeProvider>(clock));
        await crossing.Broker().PublishAsync([Crossing.TapEvent(0)]);
        // Less than a batch would wait for; on a busy machine a loop may have to rest from a file in use.
        await Crossing.UntilAsync(
            clock, TimeSpan.FromMilliseconds(4),
            async () => (await crossing.FiguresAsync("taps")).Waiting == 0,
            "it is handled");
        Assert.Single(log.Taps);
    }
}
