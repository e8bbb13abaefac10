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

    /// <summary>The life of one link.</summary>
    private sealed class Session(QueueWorker worker, IReceivingLink link)
    {
        private readonly ReceiverOptions options = worker.options;
        private readonly Credit credit = new(worker.options.Prefetch, worker.options.Parallel);
        private readonly ConcurrentDictionary<LeaseToken, byte> held = new();

        // Both channels are bounded by the prefetch: nothing enters them that credit was not taken for.
        private readonly Channel<HandOver> toHandle = Channel.CreateUnbounded<HandOver>(new() { SingleWriter = true });
        private readonly Channel<Settlement> toSettle = Channel.CreateUnbounded<Settlement>(new() { SingleReader = true });

        public async Task RunAsync(Action working, CancellationToken stopping)
        {
            using var outOfTime = new CancellationTokenSource();
            using var finished = new CancellationTokenSource();
            var handlers = Enumerable.Range(0, options.Parallel).Select(_ => Task.Run(() => HandleAsync(outOfTime.Token, stopping))).ToArray();
            var settling = Task.Run(SettleAsync, CancellationToken.None);
            var renewing = RenewAsync(finished.Token);
            try
            {
                await FetchAsync(working, stopping).ConfigureAwait(false);
            }
            finally
            {
                toHandle.Writer.Complete();
                await FinishAsync(Task.WhenAll(handlers), outOfTime, stopping).ConfigureAwait(false);
                toSettle.Writer.Complete();
                await settling.ConfigureAwait(false);
                await finished.CancelAsync().ConfigureAwait(false);
                await renewing.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }

        private async Task FetchAsync(Action working, CancellationToken stopping)
        {
            while (true)
            {
                var free = await credit.WaitAsync(stopping).ConfigureAwait(false);
                var deliveries = await link.ReceiveAsync(free, stopping).ConfigureAwait(false);
                working();
                credit.Fetched(deliveries.Count);
                foreach (var delivery in deliveries)
                {
                    held.TryAdd(delivery.Lease, 0);
                    toHandle.Writer.TryWrite(delivery);
                }
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

        private async Task SettleAsync()
        {
            var batch = new List<Settlement>();
            while (await toSettle.Reader.WaitToReadAsync().ConfigureAwait(false))
            {
                while (toSettle.Reader.TryRead(out var settlement)) batch.Add(settlement);
                await SettleAsync(batch).ConfigureAwait(false);
                foreach (var settlement in batch) held.TryRemove(settlement.Lease, out _);
                credit.Settled(batch.Count);
                batch.Clear();
            }
        }

        /// <summary>
        /// Settles, and tries again while the leases may still be ours. Given up, the events come again after the lease, to
        /// be absorbed by the inbox: late, but nothing is lost.
        /// </summary>
        private async Task SettleAsync(List<Settlement> batch)
        {
            var began = worker.clock.GetTimestamp();
            for (var failures = 1; ; failures++)
            {
                try
                {
                    var settled = await link.SettleAsync(batch, CancellationToken.None).ConfigureAwait(false);
                    var lost = settled.Count(took => !took);
                    if (lost > 0) LogLostLeases(worker.logger, worker.binding.Queue, lost);
                    return;
                }
                catch (Exception e)
                {
                    LogNotSettled(worker.logger, worker.binding.Queue, batch.Count, e.Message);
                    if (worker.clock.GetElapsedTime(began) > options.Lease) return;
                    await Task.Delay(BackOff.Bound(failures, FirstReconnect, LongestReconnect), worker.clock).ConfigureAwait(false);
                }
            }
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
