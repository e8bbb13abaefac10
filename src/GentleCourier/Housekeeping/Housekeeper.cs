using GentleCourier.Engines;
using GentleCourier.Hosting;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Housekeeping;

/// <summary>
/// Clears away, round by round, what this process need not have kept any longer: of its store, and of the dead letters
/// of the queues that it receives from; and has the broker count anew. One loop a chore.
/// </summary>
internal sealed partial class Housekeeper(
    CourierSetup setup, Preparation preparation, IServiceProvider services, CourierClock time,
    ILogger<Housekeeper> logger) : BackgroundService
{
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(1), LongestFarewell = TimeSpan.FromSeconds(2),
        FirstRest = TimeSpan.FromSeconds(1), LongestRest = TimeSpan.FromMinutes(5),
        LongestCount = TimeSpan.FromSeconds(1);

    private readonly string name = WorkerName.Unique();
    private readonly TimeProvider clock = time.Aside;

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (!await preparation.IsDoneAsync(stoppingToken).ConfigureAwait(false)) return;
        await Task.WhenAll(Chores().Select(c => KeepAsync(c.House, c.Chore, stoppingToken))).ConfigureAwait(false);
    }

    private IEnumerable<(IHousekeeping House, Chore Chore)> Chores()
    {
        if (services.FindStore() is { } store)
        {
            if (setup.Retention.Inbox is { } inbox) yield return (store, new(ChoreKind.Inbox, null, inbox));
            if (setup.Retention.Refused is { } refused) yield return (store, new(ChoreKind.Refused, null, refused));
        }
        if (setup.Bindings.Count > 0 && services.FindBroker() is { Housekeeping: { } keeper } broker
            && RecountOf(broker) is not null)
            yield return (keeper, new(ChoreKind.Counts, null, TimeSpan.Zero));
        foreach (var binding in setup.Bindings)
        {
            if (binding.Options.KeepDeadLetters is not { } keep) continue;
            if (services.FindBroker()?.Housekeeping is { } house)
                yield return (house, new(ChoreKind.DeadLetters, binding.Queue, keep));
        }
    }

    private Task KeepAsync(IHousekeeping house, Chore chore, CancellationToken stopping)
    {
        var every = chore.Kind == ChoreKind.Counts ? Rounds.Count : Rounds.Every(chore.Keep);
        return new Loop($"Clearing away ({chore.Name})", FirstRest, LongestRest, clock, logger)
            .RunAsync(LookAsync, stopping);

        async Task LookAsync(CancellationToken cancellationToken)
        {
            if (await TakeAsync(cancellationToken).ConfigureAwait(false))
                await DoRoundAsync(cancellationToken).ConfigureAwait(false);
            await Task.Delay(Rounds.Look(every), clock, cancellationToken).ConfigureAwait(false);
        }

        Task<bool> TakeAsync(CancellationToken cancellationToken) =>
            house.TakeAsync(chore, name, Lease, every, cancellationToken);

        async Task DoRoundAsync(CancellationToken cancellationToken)
        {
            var (removed, kept) = (0L, clock.GetTimestamp());
            string? from = null;
            do
            {
                var began = clock.GetTimestamp();
                var step = chore.Kind == ChoreKind.Counts ? await RecountAsync(cancellationToken).ConfigureAwait(false)
                    : await house.DoAsync(chore, from, cancellationToken).ConfigureAwait(false);
                (removed, from) = (removed + step.Removed, step.Next);
                if (from is null) break;
                await Task.Delay(Rounds.Rest(clock.GetElapsedTime(began), step.Removed > 0), clock, cancellationToken)
                    .ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                if (clock.GetElapsedTime(kept) < Lease / 3) continue;
                if (!await TakeAsync(cancellationToken).ConfigureAwait(false)) return;
                kept = clock.GetTimestamp();
            }
            while (!cancellationToken.IsCancellationRequested);

            // Even when the host stops: another need not wait for the lease to end.
            using var limit = new CancellationTokenSource(LongestFarewell);
            await house.EndAsync(chore, name, isDone: from is null, limit.Token).ConfigureAwait(false);
            if (removed > 0) LogCleared(logger, removed, chore.Name, chore.Keep);
        }
    }

    /// <summary>One step, of the queues that can be counted soon: the others need somebody who says so.</summary>
    private async Task<ChoreStep> RecountAsync(CancellationToken cancellationToken)
    {
        var broker = services.FindBroker()!;
        var counted = await RecountOf(broker)!.RecountAsync(LongestCount, cancellationToken).ConfigureAwait(false);
        foreach (var queue in counted)
        {
            if (queue.Difference is { } difference)
                LogRecounted(logger, queue.Queue, broker.DisplayName, difference);
        }
        return new(0, null);
    }

    private static IRecount? RecountOf(IBroker broker) => broker.Services.Recount;

    [LoggerMessage(502, LogLevel.Warning,
        "Queue {Queue} of {Broker} has {Difference} than was counted, which is mended; somebody has changed rows past "
        + "the library")]
    private static partial void LogRecounted(ILogger logger, string queue, string broker, string difference);

    [LoggerMessage(501, LogLevel.Information, "Cleared away {Count} ({Chore}), older than {Age}")]
    private static partial void LogCleared(ILogger logger, long count, string chore, TimeSpan age);
}
