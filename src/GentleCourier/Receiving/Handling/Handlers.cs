using System.Threading.Channels;
using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// The handlers of one queue, side by side: each takes up what lies ready, one delivery or a batch at a time. They know
/// nothing of links: a broken one does not stop them.
/// </summary>
internal sealed partial class Handlers : IDisposable
{
    private static readonly TimeSpan FirstRest = TimeSpan.FromMilliseconds(10);
    private static readonly TimeSpan LongestRest = TimeSpan.FromSeconds(1);

    private readonly QueueBinding binding;
    private readonly ReceiverOptions options;
    private readonly DeliveryHandler handler;
    private readonly Credit credit;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    // Bounded by the prefetch: nothing enters it that credit was not taken for.
    private readonly Channel<TakenDelivery> ready = Channel.CreateUnbounded<TakenDelivery>();
    // One at a time gathers a batch: several would share out what comes, and all wait.
    private readonly SemaphoreSlim gathering = new(1, 1);
    private readonly Lock takingBack = new();
    private readonly CancellationTokenSource noMore = new(), outOfTime = new();
    private readonly Lazy<Task> finishing;
    private readonly Rate? rate;
    private readonly long began;
    private Task all = Task.CompletedTask;

    public Handlers(
        QueueBinding binding, DeliveryHandler handler, Credit credit, TimeProvider clock, ILogger logger)
    {
        this.binding = binding;
        options = binding.Options;
        this.handler = handler;
        this.credit = credit;
        this.clock = clock;
        this.logger = logger;
        finishing = new Lazy<Task>(FinishOnceAsync);
        rate = options.MaxPerSecond is { } most ? new Rate(most) : null;
        began = clock.GetTimestamp();
        Times = new HandlerTimes(options.Parallel, clock);
    }

    public void Start() => all = Task.WhenAll(Enumerable.Range(1, options.Parallel).Select(
        number => new Loop($"Handler {number} of queue '{binding.Queue}'", FirstRest, LongestRest, clock, logger)
            .RunAsync(ending => HandleNextAsync(number - 1, ending), noMore.Token)));

    /// <summary>How long they take.</summary>
    public HandlerTimes Times { get; }

    /// <summary>It lies ready, to be handled when its turn comes.</summary>
    public void Add(TakenDelivery delivery) => ready.Writer.TryWrite(delivery);

    /// <summary>Takes back, of those that came by a link, up to so many that no handler has taken up.</summary>
    public List<TakenDelivery> TakeBack(ISettler link, int most = int.MaxValue)
    {
        var taken = new List<TakenDelivery>();
        // Two links that do so at once would each hide from the other what it only passes by.
        lock (takingBack)
        {
            for (var left = ready.Reader.Count; left > 0 && ready.Reader.TryRead(out var delivery); left--)
            {
                if (delivery.Link == link && taken.Count < most) taken.Add(delivery);
                else ready.Writer.TryWrite(delivery);
            }
        }
        taken.ForEach(_ => credit.TakenBack());
        return taken;
    }

    /// <summary>
    /// Takes up nothing more, and lets the handlers finish what they have. They have a limit for it; then they are
    /// cancelled, and at last those that do not listen are left behind.
    /// </summary>
    public Task FinishAsync() => finishing.Value;

    public void Dispose()
    {
        noMore.Dispose();
        outOfTime.Dispose();
        gathering.Dispose();
    }

    private async Task FinishOnceAsync()
    {
        await noMore.CancelAsync().ConfigureAwait(false);
        if (!await EndWithinAsync(options.StopLimit).ConfigureAwait(false))
        {
            LogCancelsHandlers(logger, binding.Queue, options.StopLimit);
            // What handlers have registered to be called may take its time, or throw.
            _ = outOfTime.CancelAsync();
            if (!await EndWithinAsync(Attempt.TimeToEnd).ConfigureAwait(false))
                LogAbandonsHandlers(logger, binding.Queue, options.Lease);
        }
        handler.End();
    }

    private async Task<bool> EndWithinAsync(TimeSpan limit)
    {
        await all.WaitAsync(limit, clock, CancellationToken.None)
            .ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        return all.IsCompleted;
    }

    private async Task HandleNextAsync(int handler, CancellationToken ending)
    {
        var deliveries = await TakeUpAsync(ending).ConfigureAwait(false);
        var count = deliveries.Count;
        Times.Begin(handler, deliveries);
        try
        {
            await HandleAsync(deliveries, ending).ConfigureAwait(false);
        }
        finally
        {
            credit.Handled(Times.End(handler, count), count);
        }
    }

    private async Task HandleAsync(List<TakenDelivery> deliveries, CancellationToken ending)
    {
        if (ending.IsCancellationRequested)
        {
            // What has not begun when the host stops goes back untouched, for another worker to take at once.
            deliveries.ForEach(d => d.Settle(Outcome.Released));
            return;
        }
        if (options.Settling == Settling.OnArrival)
        {
            deliveries = await SettleOnArrivalAsync(deliveries).ConfigureAwait(false);
            FaultPoint.Pass(FaultPoint.ArrivalSettledNotHandled);
        }
        if (deliveries.Count > 0) await handler.HandleAsync(deliveries, outOfTime.Token).ConfigureAwait(false);
    }

    private static async Task<List<TakenDelivery>> SettleOnArrivalAsync(List<TakenDelivery> deliveries)
    {
        // Nearly always all have come by one link.
        var settled = new List<TakenDelivery>();
        foreach (var group in deliveries.GroupBy(d => d.Link))
            settled.AddRange(await group.Key.SettleOnArrivalAsync([.. group]).ConfigureAwait(false));
        return settled;
    }

    /// <summary>
    /// Waits for one delivery, or for a batch: as many as come until it is full or its time is over.
    /// </summary>
    private async Task<List<TakenDelivery>> TakeUpAsync(CancellationToken ending)
    {
        await WaitForTurnAsync(ending).ConfigureAwait(false);
        var taken = new List<TakenDelivery>(1);
        if (binding.BatchSize == 1)
        {
            taken.Add(await TakeOneAsync(ending).ConfigureAwait(false));
            return taken;
        }

        await gathering.WaitAsync(ending).ConfigureAwait(false);
        try
        {
            taken.Add(await TakeOneAsync(ending).ConfigureAwait(false));
            using var time = new CancellationTokenSource(options.BatchWait, clock);
            using var enough = CancellationTokenSource.CreateLinkedTokenSource(time.Token, ending);
            while (taken.Count < binding.BatchSize) taken.Add(await TakeOneAsync(enough.Token).ConfigureAwait(false));
        }
        catch (OperationCanceledException) when (taken.Count > 0)
        {
            // What has come within the time is the batch.
        }
        finally
        {
            gathering.Release();
        }
        TakeTurns(taken.Count - 1);
        return taken;
    }

    /// <summary>Where no more than so many may begin in a second, waits until the next may.</summary>
    private Task WaitForTurnAsync(CancellationToken ending) =>
        TakeTurns(1) is var time && time > TimeSpan.Zero ? Task.Delay(time, clock, ending) : Task.CompletedTask;

    private TimeSpan TakeTurns(int count)
    {
        if (rate is null || count == 0) return TimeSpan.Zero;
        lock (rate) return rate.Take(count, clock.GetElapsedTime(began));
    }

    private async Task<TakenDelivery> TakeOneAsync(CancellationToken cancellationToken)
    {
        var delivery = await ready.Reader.ReadAsync(cancellationToken).ConfigureAwait(false);
        credit.Started();
        return delivery;
    }

    [LoggerMessage(
        217, LogLevel.Warning, "Queue {Queue}: handlers are still running {Limit} after the stop; they are cancelled")]
    private static partial void LogCancelsHandlers(ILogger logger, string queue, TimeSpan limit);

    [LoggerMessage(218, LogLevel.Error,
        "Queue {Queue}: handlers ignore their cancellation; their events come again within {Lease}")]
    private static partial void LogAbandonsHandlers(ILogger logger, string queue, TimeSpan lease);
}
