using System.Threading.Channels;
using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// The handlers of one session, side by side: each takes up what lies ready, one delivery or a batch at a time.
/// </summary>
internal sealed partial class Handlers(
    QueueBinding binding,
    ChannelReader<Held> toHandle,
    DeliveryHandler handler,
    Credit credit,
    ISettler link,
    Func<List<Held>, Task<List<Held>>> settleOnArrival,
    TimeProvider clock,
    ILogger logger) : IDisposable
{
    private readonly ReceiverOptions options = binding.Options;
    private readonly int batchSize = binding.BatchSize;
    private readonly CancellationTokenSource outOfTime = new();
    // One at a time gathers a batch: several would share out what comes, and all wait.
    private readonly SemaphoreSlim gathering = new(1, 1);
    private Task all = Task.CompletedTask;

    public void Start(CancellationToken stopping) =>
        all = Task.WhenAll(Enumerable.Range(0, options.Parallel).Select(
            _ => Task.Run(() => HandleAsync(stopping), CancellationToken.None)));

    /// <summary>
    /// Lets the handlers finish what is in hand. Once the host stops they have a limit for it; then they are cancelled,
    /// and at last those that do not listen are left behind.
    /// </summary>
    public async Task FinishAsync(CancellationToken stopping)
    {
        await all.WaitAsync(stopping).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        try
        {
            await all.WaitAsync(options.StopLimit, clock, CancellationToken.None).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            LogCancelsHandlers(logger, binding.Queue, options.StopLimit);
            await outOfTime.CancelAsync().ConfigureAwait(false);
            try
            {
                await all.WaitAsync(Attempt.TimeToEnd, clock, CancellationToken.None).ConfigureAwait(false);
            }
            catch (TimeoutException)
            {
                LogAbandonsHandlers(logger, binding.Queue, options.Lease);
            }
        }
    }

    public void Dispose()
    {
        outOfTime.Dispose();
        gathering.Dispose();
    }

    private async Task HandleAsync(CancellationToken stopping)
    {
        while (await TakeUpAsync().ConfigureAwait(false) is { Count: > 0 } deliveries)
        {
            var began = clock.GetTimestamp();
            var count = deliveries.Count;
            await HandleAsync(deliveries, stopping).ConfigureAwait(false);
            credit.Handled(clock.GetElapsedTime(began), count);
        }
    }

    private async Task HandleAsync(List<Held> deliveries, CancellationToken stopping)
    {
        if (stopping.IsCancellationRequested)
        {
            // What has not begun when the host stops goes back untouched, for another worker to take at once.
            deliveries.ForEach(d => link.Settle(d, Outcome.Released));
            return;
        }
        if (options.Settling == Settling.OnArrival)
        {
            deliveries = await settleOnArrival(deliveries).ConfigureAwait(false);
            FaultPoint.Pass(FaultPoint.ArrivalSettledNotHandled);
            if (deliveries.Count == 0) return;
        }
        await handler.HandleAsync(deliveries, link, outOfTime.Token).ConfigureAwait(false);
    }

    /// <summary>
    /// Waits for one delivery, or for a batch: as many as come until it is full or its time is over. None: it is over.
    /// </summary>
    private async Task<List<Held>> TakeUpAsync()
    {
        var taken = new List<Held>(1);
        if (batchSize == 1)
        {
            await TakeOneAsync(taken, CancellationToken.None).ConfigureAwait(false);
            return taken;
        }

        await gathering.WaitAsync().ConfigureAwait(false);
        try
        {
            if (!await TakeOneAsync(taken, CancellationToken.None).ConfigureAwait(false)) return taken;
            using var enough = new CancellationTokenSource(options.BatchWait, clock);
            while (taken.Count < batchSize && await TakeOneAsync(taken, enough.Token).ConfigureAwait(false))
            {
            }
        }
        catch (OperationCanceledException)
        {
            // What has come within the time is the batch.
        }
        finally
        {
            gathering.Release();
        }
        return taken;
    }

    private async Task<bool> TakeOneAsync(List<Held> taken, CancellationToken cancellationToken)
    {
        while (true)
        {
            if (toHandle.TryRead(out var delivery))
            {
                credit.Started();
                taken.Add(delivery);
                return true;
            }
            if (!await toHandle.WaitToReadAsync(cancellationToken).ConfigureAwait(false)) return false;
        }
    }

    [LoggerMessage(
        217, LogLevel.Warning, "Queue {Queue}: handlers are still running {Limit} after the stop; they are cancelled")]
    private static partial void LogCancelsHandlers(ILogger logger, string queue, TimeSpan limit);

    [LoggerMessage(218, LogLevel.Error,
        "Queue {Queue}: handlers ignore their cancellation; their events come again within {Lease}")]
    private static partial void LogAbandonsHandlers(ILogger logger, string queue, TimeSpan lease);
}
