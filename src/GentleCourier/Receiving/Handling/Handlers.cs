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
    private readonly Deliveries deliveries;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    // One at a time gathers a batch: several would share out what comes, and all wait.
    private readonly SemaphoreSlim gathering = new(1, 1);
    private readonly CancellationTokenSource noMore = new(), outOfTime = new();
    private readonly Lazy<Task> finishing;
    private readonly long began;
    private readonly Lock gate = new();
    private readonly List<Task> all = [];
    private readonly Signal steered = new();
    private volatile Rate? rate;
    private volatile int parallel;

    public Handlers(
        QueueBinding binding, DeliveryHandler handler, Deliveries deliveries, TimeProvider clock, ILogger logger)
    {
        this.binding = binding;
        options = binding.Options;
        this.handler = handler;
        this.deliveries = deliveries;
        this.clock = clock;
        this.logger = logger;
        finishing = new Lazy<Task>(FinishOnceAsync);
        began = clock.GetTimestamp();
        Times = new HandlerTimes(clock);
    }

    /// <summary>So many work from now on, and begin no more than so much in a second.</summary>
    public void Run(int handlers, double? perSecond)
    {
        lock (gate)
        {
            if (rate?.PerSecond != perSecond) rate = perSecond is { } most ? new Rate(most) : null;
            parallel = handlers;
            Times.Grow(handlers);
            while (all.Count < handlers && !noMore.IsCancellationRequested) all.Add(Start(all.Count));
        }
        steered.Raise();
    }

    private Task Start(int number) =>
        new Loop($"Handler {number + 1} of queue '{binding.Queue}'", FirstRest, LongestRest, clock, logger)
            .RunAsync(ending => HandleNextAsync(number, ending), noMore.Token);

    /// <summary>How long they take.</summary>
    public HandlerTimes Times { get; }

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
        Task ended;
        lock (gate) ended = Task.WhenAll(all);
        await ended.WaitAsync(limit, clock, CancellationToken.None)
            .ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        return ended.IsCompleted;
    }

    private async Task HandleNextAsync(int handler, CancellationToken ending)
    {
        var change = steered.Next;
        if (handler >= parallel)
        {
            await change.WaitAsync(ending).ConfigureAwait(false);
            return;
        }
        var taken = await TakeUpAsync(ending).ConfigureAwait(false);
        if (deliveries.IsHeld.IsCancellationRequested || handler >= parallel)
        {
            // Somebody has said so by hand while it was waited for.
            deliveries.PutBack(taken);
            return;
        }
        var count = taken.Count;
        Times.Begin(handler, taken);
        try
        {
            await HandleAsync(taken, ending).ConfigureAwait(false);
        }
        finally
        {
            deliveries.Handled(Times.End(handler, count), count);
        }
    }

    private async Task HandleAsync(List<TakenDelivery> taken, CancellationToken ending)
    {
        if (ending.IsCancellationRequested)
        {
            // What has not begun when the host stops goes back untouched, for another worker to take at once.
            taken.ForEach(d => d.Settle(Outcome.Released));
            return;
        }
        if (options.Settling == Settling.OnArrival)
        {
            taken = await SettleOnArrivalAsync(taken).ConfigureAwait(false);
            FaultPoint.Pass(FaultPoint.ArrivalSettledNotHandled);
        }
        if (taken.Count > 0) await handler.HandleAsync(taken, outOfTime.Token).ConfigureAwait(false);
    }

    private static async Task<List<TakenDelivery>> SettleOnArrivalAsync(List<TakenDelivery> taken)
    {
        // Nearly always all have come by one link.
        var settled = new List<TakenDelivery>();
        foreach (var group in taken.GroupBy(d => d.Link))
            settled.AddRange(await group.Key.Settler.SettleOnArrivalAsync([.. group]).ConfigureAwait(false));
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
            taken.Add(await deliveries.TakeUpAsync(ending).ConfigureAwait(false));
            return taken;
        }

        await gathering.WaitAsync(ending).ConfigureAwait(false);
        try
        {
            taken.Add(await deliveries.TakeUpAsync(ending).ConfigureAwait(false));
            using var time = new CancellationTokenSource(options.BatchWait, clock);
            using var enough = CancellationTokenSource.CreateLinkedTokenSource(time.Token, ending, deliveries.IsHeld);
            while (taken.Count < binding.BatchSize)
                taken.Add(await deliveries.TakeUpAsync(enough.Token).ConfigureAwait(false));
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

    /// <summary>
    /// Where no more than so many may begin in a second, waits until the next may; anew, where it is said to be another
    /// number meanwhile.
    /// </summary>
    private async ValueTask WaitForTurnAsync(CancellationToken ending)
    {
        while (true)
        {
            var change = steered.Next;
            if (TakeTurns(1) is not { Ticks: > 0 } time) return;
            using var over = CancellationTokenSource.CreateLinkedTokenSource(ending);
            var turn = Task.Delay(time, clock, over.Token);
            if (await Task.WhenAny(turn, change).ConfigureAwait(false) == turn)
            {
                await turn.ConfigureAwait(false);
                return;
            }
            await over.CancelAsync().ConfigureAwait(false);
        }
    }

    private TimeSpan TakeTurns(int count)
    {
        if (rate is not { } limit || count == 0) return TimeSpan.Zero;
        lock (limit) return limit.Take(count, clock.GetElapsedTime(began));
    }

    [LoggerMessage(
        217, LogLevel.Warning, "Queue {Queue}: handlers are still running {Limit} after the stop; they are cancelled")]
    private static partial void LogCancelsHandlers(ILogger logger, string queue, TimeSpan limit);

    [LoggerMessage(218, LogLevel.Error,
        "Queue {Queue}: handlers ignore their cancellation; their events come again within {Lease}")]
    private static partial void LogAbandonsHandlers(ILogger logger, string queue, TimeSpan lease);
}
