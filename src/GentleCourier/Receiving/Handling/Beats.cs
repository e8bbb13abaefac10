using System.Reflection;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Says now and then in the broker's register how this process receives, and at once when it has taken up what was
/// ordered by hand; one statement for all of its queues. When it ends it signs off, and when it is killed it is
/// forgotten soon.
/// </summary>
/// <param name="id">What this process is known by.</param>
/// <param name="register">The register.</param>
/// <param name="workers">Those of this process, a queue each.</param>
/// <param name="obedience">What it knows of orders by hand; null where there are none.</param>
/// <param name="clock">The time.</param>
/// <param name="logger">Is told where the register cannot be reached.</param>
internal sealed class Beats(
    string id, IWorkerRegister register, IReadOnlyList<QueueWorker> workers, Obedience? obedience, TimeProvider clock,
    ILogger logger)
{
    /// <summary>How often.</summary>
    public static readonly TimeSpan Every = TimeSpan.FromSeconds(10);

    /// <summary>For how long it is believed: two may come late.</summary>
    public static readonly TimeSpan ValidFor = TimeSpan.FromSeconds(35);

    private static readonly TimeSpan LongestFarewell = TimeSpan.FromSeconds(2);
    private static readonly string Version =
        Assembly.GetEntryAssembly()?.GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion
        ?? "unknown";

    private readonly DateTimeOffset since = clock.GetUtcNow();
    // What was said the last time: how long handlers had been busy, and when.
    private readonly Dictionary<string, (TimeSpan Busy, long At)> said = new(StringComparer.Ordinal);

    /// <summary>Beats until it is told to end.</summary>
    public async Task RunAsync(CancellationToken ending)
    {
        using var timer = new PeriodicTimer(Every, clock);
        // The one that is under way: a timer is waited for by one at a time.
        var tick = Task.CompletedTask;
        await new Loop("Saying in the broker's register that this process receives", Every, 6 * Every, clock, logger)
            .RunAsync(BeatAsync, ending).ConfigureAwait(false);
        await SignOffAsync().ConfigureAwait(false);

        async Task BeatAsync(CancellationToken cancellationToken)
        {
            var news = obedience?.News;
            var figures = workers.Select(FiguresOf).ToList();
            await register.BeatAsync(
                new WorkerFigures(id, WorkerName.OfProcess, Version, since, figures)
                {
                    Said = clock.GetUtcNow(), Heard = obedience?.Heard, IsDrained = obedience?.IsDrained == true,
                },
                ValidFor, cancellationToken).ConfigureAwait(false);
            if (tick.IsCompleted) tick = timer.WaitForNextTickAsync(cancellationToken).AsTask();
            await (news is null ? tick : await Task.WhenAny(tick, news).ConfigureAwait(false)).ConfigureAwait(false);
        }
    }

    private ReceiverFigures FiguresOf(QueueWorker worker)
    {
        var figures = worker.Figures;
        var (busy, now) = (worker.Busy, clock.GetTimestamp());
        double? utilisation = said.TryGetValue(figures.Queue, out var before)
            && clock.GetElapsedTime(before.At, now) is { Ticks: > 0 } passed
            ? Math.Clamp((busy - before.Busy) / passed / figures.Parallel, 0, 1) : null;
        said[figures.Queue] = (busy, now);
        return figures with { Utilisation = utilisation };
    }

    private async Task SignOffAsync()
    {
        try
        {
            using var limit = new CancellationTokenSource(LongestFarewell);
            await register.LeaveAsync(id, limit.Token).WaitAsync(limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is CourierException or OperationCanceledException)
        {
            // It is forgotten soon.
        }
    }
}
