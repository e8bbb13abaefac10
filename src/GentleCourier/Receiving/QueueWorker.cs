using System.Collections.Concurrent;
using System.Threading.Channels;
using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving;

/// <summary>
/// Receives from one queue: fetches within the prefetch, lets the handlers run side by side, renews leases, settles many
/// at once. It goes on, with back-off, when the broker is away, and hands back what it has not begun when it is stopped.
/// </summary>
internal sealed partial class QueueWorker(
    QueueBinding binding, ReceiverOptions options, IBroker broker, DeliveryHandler handler, TimeProvider clock, ILogger logger)
{
    private readonly QueueBinding binding = binding;
    private readonly ReceiverOptions options = options;
    private readonly DeliveryHandler handler = handler;
    private readonly TimeProvider clock = clock;
    private readonly ILogger logger = logger;
    // While handlers have work at hand, finished deliveries are gathered for this long, or to half the prefetch.
    private static readonly TimeSpan Gathering = TimeSpan.FromMilliseconds(5);
    private static readonly TimeSpan FirstReconnect = TimeSpan.FromMilliseconds(200);
    private static readonly TimeSpan LongestReconnect = TimeSpan.FromSeconds(15);

    /// <summary>Runs until <paramref name="stopping"/>, and then until everything in hand is settled.</summary>
    public async Task RunAsync(CancellationToken stopping)
    {
        for (var failures = 0; !stopping.IsCancellationRequested;)
        {
            try
            {
                var link = await broker.OpenLinkAsync(binding.Queue, WorkerName.OfProcess, options.Lease, stopping).ConfigureAwait(false);
                await using (link.ConfigureAwait(false))
                {
                    LogReceives(logger, binding.Queue, options.Prefetch, options.Parallel);
                    var session = new Session(this, link);
                    await session.RunAsync(() => failures = 0, stopping).ConfigureAwait(false);
                }
            }
            catch (OperationCanceledException) when (stopping.IsCancellationRequested)
            {
            }
            catch (Exception e)
            {
                failures++;
                var delay = BackOff.Delay(failures, FirstReconnect, LongestReconnect, Random.Shared.NextDouble());
                LogBrokerAway(logger, binding.Queue, e.Message, failures, delay);
                await Task.Delay(delay, clock, stopping).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }
        LogStopped(logger, binding.Queue);
    }

    /// <summary>
    /// The life of one link. One loop speaks with it: it settles what the handlers have finished and, in the same breath,
    /// fetches as much as the prefetch then allows. While one exchange is under way the next batch gathers by itself.
    /// </summary>
    private sealed class Session(QueueWorker worker, IReceivingLink link)
    {
        private readonly ReceiverOptions options = worker.options;
        private readonly Credit credit = new(worker.options.Prefetch, worker.options.Parallel);
        private readonly ConcurrentDictionary<LeaseToken, byte> held = new();

        // Both channels are bounded by the prefetch: nothing enters them that credit was not taken for.
        private readonly Channel<HandOver> toHandle = Channel.CreateUnbounded<HandOver>(new() { SingleWriter = true });
        private readonly Channel<Settlement> toSettle = Channel.CreateUnbounded<Settlement>();
        private readonly List<Settlement> batch = [];
        private long lastSettled;

        public async Task RunAsync(Action working, CancellationToken stopping)
        {
            using var outOfTime = new CancellationTokenSource();
            using var finished = new CancellationTokenSource();
            var handlers = Task.WhenAll(Enumerable.Range(0, options.Parallel).Select(_ => Task.Run(() => HandleAsync(outOfTime.Token, stopping))));
            var renewing = RenewAsync(finished.Token);
            try
            {
                await ExchangeAsync(working, stopping).ConfigureAwait(false);
            }
            finally
            {
                toHandle.Writer.Complete();
                var settling = SettleRestAsync();
                await FinishAsync(handlers, outOfTime, stopping).ConfigureAwait(false);
                toSettle.Writer.Complete();
                await settling.ConfigureAwait(false);
                await finished.CancelAsync().ConfigureAwait(false);
                await renewing.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }

        private async Task ExchangeAsync(Action working, CancellationToken stopping)
        {
            Task<IReadOnlyList<HandOver>>? receiving = null;
            Task<bool>? finishing = null;
            try
            {
                while (true)
                {
                    stopping.ThrowIfCancellationRequested();
                    while (toSettle.Reader.TryRead(out var settlement)) batch.Add(settlement);
                    var patience = batch.Count == 0 ? Timeout.InfiniteTimeSpan : Patience();
                    if (batch.Count > 0 && patience <= TimeSpan.Zero)
                    {
                        await SettleBatchAsync(receiving is null ? credit.WorthFetching(batch.Count) : 0).ConfigureAwait(false);
                        lastSettled = worker.clock.GetTimestamp();
                        patience = Timeout.InfiniteTimeSpan;
                    }

                    // Events are waited for only when a handler has nothing to do; busy ones fetch as they settle.
                    if (receiving is null && credit.NeededNow > 0) receiving = link.ReceiveAsync(credit.NeededNow, stopping);
                    if (receiving is { IsCompleted: true })
                    {
                        Take(await receiving.ConfigureAwait(false));
                        receiving = null;
                        working();
                    }

                    if (finishing is null or { IsCompleted: true }) finishing = toSettle.Reader.WaitToReadAsync(CancellationToken.None).AsTask();
                    var changed = Task.WhenAny(finishing, receiving ?? credit.UsedUp);
                    await (patience == Timeout.InfiniteTimeSpan ? changed.WaitAsync(stopping) : Task.WhenAny(changed, Task.Delay(patience, worker.clock, stopping)))
                        .ConfigureAwait(false);
                }
            }
            finally
            {
                // What came at the moment of the stop is in hand, and has to be given back like the rest.
                if (receiving is not null)
                {
                    await ((Task)receiving).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                    if (receiving.IsCompletedSuccessfully) Take(await receiving.ConfigureAwait(false));
                }
            }
        }

        /// <summary>How long what has been finished may still gather: not at all when a handler has run out of work.</summary>
        private TimeSpan Patience() => batch.Count >= (options.Prefetch + 1) / 2 || credit.NothingReady
            ? TimeSpan.Zero
            : Gathering - worker.clock.GetElapsedTime(lastSettled);

        private void Take(IReadOnlyList<HandOver> deliveries)
        {
            credit.Fetched(deliveries.Count);
            foreach (var delivery in deliveries)
            {
                held.TryAdd(delivery.Lease, 0);
                toHandle.Writer.TryWrite(delivery);
            }
        }

        private async Task HandleAsync(CancellationToken outOfTime, CancellationToken stopping)
        {
            await foreach (var delivery in toHandle.Reader.ReadAllAsync(CancellationToken.None).ConfigureAwait(false))
            {
                credit.Started();
                // What has not begun when the host stops goes back untouched, for another worker to take at once.
                var outcome = stopping.IsCancellationRequested
                    ? Outcome.Released
                    : await worker.handler.HandleAsync(delivery, outOfTime).ConfigureAwait(false);
                toSettle.Writer.TryWrite(new Settlement(delivery.Lease, outcome));
            }
        }

        /// <summary>
        /// Lets the handlers finish what is in hand. Once the host stops they have a limit for it; then they are cancelled,
        /// and at last those that do not listen are left behind.
        /// </summary>
        private async Task FinishAsync(Task handlers, CancellationTokenSource outOfTime, CancellationToken stopping)
        {
            await handlers.WaitAsync(stopping).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            try
            {
                await handlers.WaitAsync(options.StopLimit, worker.clock, CancellationToken.None).ConfigureAwait(false);
            }
            catch (TimeoutException)
            {
                LogCancelsHandlers(worker.logger, worker.binding.Queue, options.StopLimit);
                await outOfTime.CancelAsync().ConfigureAwait(false);
                try
                {
                    await handlers.WaitAsync(TimeSpan.FromSeconds(1), worker.clock, CancellationToken.None).ConfigureAwait(false);
                }
                catch (TimeoutException)
                {
                    LogAbandonsHandlers(worker.logger, worker.binding.Queue, options.Lease);
                }
            }
        }

        /// <summary>Settles, without fetching any more, until the handlers are done.</summary>
        private async Task SettleRestAsync()
        {
            do
            {
                while (toSettle.Reader.TryRead(out var settlement)) batch.Add(settlement);
                if (batch.Count > 0) await SettleBatchAsync(toFetch: 0).ConfigureAwait(false);
            }
            while (await toSettle.Reader.WaitToReadAsync(CancellationToken.None).ConfigureAwait(false));
        }

        /// <summary>
        /// Settles, and tries again while the leases may still be ours. Given up, the events come again after the lease, to
        /// be absorbed by the inbox: late, but nothing is lost.
        /// </summary>
        private async Task SettleBatchAsync(int toFetch)
        {
            var began = worker.clock.GetTimestamp();
            for (var failures = 1; ; failures++)
            {
                try
                {
                    var (took, deliveries) = await link.SettleAsync(batch, toFetch, CancellationToken.None).ConfigureAwait(false);
                    var lost = took.Count(t => !t);
                    if (lost > 0) LogLostLeases(worker.logger, worker.binding.Queue, lost);
                    Settled();
                    Take(deliveries);
                    return;
                }
                catch (Exception e)
                {
                    LogNotSettled(worker.logger, worker.binding.Queue, batch.Count, e.Message);
                    if (worker.clock.GetElapsedTime(began) > options.Lease)
                    {
                        Settled();
                        return;
                    }
                    await Task.Delay(BackOff.Bound(failures, FirstReconnect, LongestReconnect), worker.clock).ConfigureAwait(false);
                }
            }
        }

        private void Settled()
        {
            foreach (var settlement in batch) held.TryRemove(settlement.Lease, out _);
            credit.Settled(batch.Count);
            batch.Clear();
        }

        private async Task RenewAsync(CancellationToken finished)
        {
            using var timer = new PeriodicTimer(options.Lease / 3, worker.clock);
            while (await timer.WaitForNextTickAsync(finished).ConfigureAwait(false))
            {
                var leases = held.Keys.ToList();
                if (leases.Count == 0) continue;
                try
                {
                    await link.RenewAsync(leases, finished).ConfigureAwait(false);
                }
                catch (Exception e) when (e is not OperationCanceledException)
                {
                    LogNotRenewed(worker.logger, worker.binding.Queue, leases.Count, e.Message);
                }
            }
        }
    }

    [LoggerMessage(211, LogLevel.Information, "Receives from queue {Queue}: prefetch {Prefetch}, parallel {Parallel}")]
    private static partial void LogReceives(ILogger logger, string queue, int prefetch, int parallel);

    [LoggerMessage(212, LogLevel.Warning, "Cannot receive from queue {Queue}: {Problem} (failure {Failures} in a row; next try in {Delay})")]
    private static partial void LogBrokerAway(ILogger logger, string queue, string problem, int failures, TimeSpan delay);

    [LoggerMessage(213, LogLevel.Information, "No longer receives from queue {Queue}: what was in hand is settled")]
    private static partial void LogStopped(ILogger logger, string queue);

    [LoggerMessage(214, LogLevel.Warning, "Queue {Queue}: {Count} deliveries had been handed to others when they were settled; their lease was lost")]
    private static partial void LogLostLeases(ILogger logger, string queue, int count);

    [LoggerMessage(215, LogLevel.Warning, "Queue {Queue}: {Count} deliveries could not be settled: {Problem}")]
    private static partial void LogNotSettled(ILogger logger, string queue, int count, string problem);

    [LoggerMessage(216, LogLevel.Warning, "Queue {Queue}: the leases of {Count} deliveries could not be renewed: {Problem}")]
    private static partial void LogNotRenewed(ILogger logger, string queue, int count, string problem);

    [LoggerMessage(217, LogLevel.Warning, "Queue {Queue}: handlers are still running {Limit} after the stop; they are cancelled")]
    private static partial void LogCancelsHandlers(ILogger logger, string queue, TimeSpan limit);

    [LoggerMessage(218, LogLevel.Error, "Queue {Queue}: handlers ignore their cancellation; their events come again within {Lease}")]
    private static partial void LogAbandonsHandlers(ILogger logger, string queue, TimeSpan lease);
}
