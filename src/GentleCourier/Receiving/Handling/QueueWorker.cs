using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Receives from one queue, one session after another: when the broker is away it goes on, with back-off, until it is
/// back.
/// </summary>
internal sealed partial class QueueWorker(
    QueueBinding binding, IBroker broker, DeliveryHandler handler, TimeProvider clock, ILogger logger)
{
    private static readonly TimeSpan FirstReconnect = TimeSpan.FromMilliseconds(200);
    private static readonly TimeSpan LongestReconnect = TimeSpan.FromSeconds(15);

    private readonly ReceiverOptions options = binding.Options;

    /// <summary>Runs until <paramref name="stopping"/>, and then until everything in hand is settled.</summary>
    public async Task RunAsync(CancellationToken stopping)
    {
        for (var failures = 0; !stopping.IsCancellationRequested;)
        {
            try
            {
                var link = await broker.OpenLinkAsync(binding.Queue, WorkerName.OfProcess, options.Lease, stopping)
                    .ConfigureAwait(false);
                await using (link.ConfigureAwait(false))
                {
                    LogReceives(logger, binding.Queue, options.Prefetch, options.Parallel);
                    var session = new Session(binding, link, handler, clock, logger);
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

    [LoggerMessage(211, LogLevel.Information, "Receives from queue {Queue}: prefetch {Prefetch}, parallel {Parallel}")]
    private static partial void LogReceives(ILogger logger, string queue, Prefetch prefetch, int parallel);

    [LoggerMessage(212, LogLevel.Warning,
        "Cannot receive from queue {Queue}: {Problem} (failure {Failures} in a row; next try in {Delay})")]
    private static partial void LogBrokerAway(
        ILogger logger, string queue, string problem, int failures, TimeSpan delay);

    [LoggerMessage(213, LogLevel.Information, "No longer receives from queue {Queue}: what was in hand is settled")]
    private static partial void LogStopped(ILogger logger, string queue);
}
