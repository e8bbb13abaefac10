using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Companions;

/// <summary>
/// What is known of queues of a broker that has companions: of the broker how many wait, of the companions what they
/// have taken over, and who receives. What neither knows is unknown.
/// </summary>
internal sealed class ReportsWithCompanions(IBroker broker, IReadOnlyList<IBroker> companions) : IBrokerReports
{
    public async Task<Topology> ReadTopologyAsync(CancellationToken cancellationToken)
    {
        var all = await AllAsync(reports => reports.ReadTopologyAsync(cancellationToken)).ConfigureAwait(false);
        return new Topology([.. all.SelectMany(t => t.Queues).Distinct().Order(StringComparer.Ordinal)], []);
    }

    public async Task<BrokerFigures> ReadFiguresAsync(CancellationToken cancellationToken)
    {
        var all = await AllAsync(reports => reports.ReadFiguresAsync(cancellationToken)).ConfigureAwait(false);
        var queues = all.SelectMany(f => f.Queues).GroupBy(q => q.Queue).OrderBy(g => g.Key, StringComparer.Ordinal)
            .ToList();
        var depths = broker.Depths is { } port
            ? await port.ReadDepthsAsync(queues.ConvertAll(g => g.Key), cancellationToken).ConfigureAwait(false)
            : new long?[queues.Count];
        var workers = WorkerJson.Sorted(all.SelectMany(f => f.Workers ?? []));
        return new BrokerFigures(
            broker.DisplayName, all.Count == 0 ? DateTimeOffset.UtcNow : all.Max(f => f.At),
            [.. queues.Select((queue, i) => Together(queue.Key, [.. queue], depths[i], workers))], workers);
    }

    /// <summary>What waits at the broker cannot be shown; where nothing does, the rest is all.</summary>
    public async Task<IReadOnlyList<QueuedEvent>> PeekAsync(
        string queue, int limit, CancellationToken cancellationToken)
    {
        if (broker.Depths is not { } port
            || (await port.ReadDepthsAsync([queue], cancellationToken).ConfigureAwait(false))[0] is not 0)
        {
            throw new CourierException(
                $"{broker.DisplayName} cannot show the events that wait in queue '{queue}' without handing them over; "
                + $"what has failed is at {string.Join(", ", companions.Select(c => c.DisplayName))}, to be looked at "
                + "as a broker of its own");
        }
        var seen = new List<QueuedEvent>();
        foreach (var companion in companions)
        {
            var topology = await TryAsync(companion, reports => reports.ReadTopologyAsync(cancellationToken))
                .ConfigureAwait(false);
            if (topology?.Queues.Contains(queue) == true && seen.Count < limit)
                seen.AddRange(await ReportsOf(companion).PeekAsync(queue, limit - seen.Count, cancellationToken)
                    .ConfigureAwait(false));
        }
        return seen;
    }

    /// <summary>Of each that is there: a service that does not receive has none.</summary>
    private async Task<List<T>> AllAsync<T>(Func<IBrokerReports, Task<T>> read) where T : class =>
        [.. (await Task.WhenAll(companions.Select(c => TryAsync(c, read))).ConfigureAwait(false)).OfType<T>()];

    private static async Task<T?> TryAsync<T>(IBroker companion, Func<IBrokerReports, Task<T>> read) where T : class
    {
        try
        {
            return await read(ReportsOf(companion)).ConfigureAwait(false);
        }
        catch (CourierException e) when (e.IsAboutTables)
        {
            return null;
        }
    }

    private static IBrokerReports ReportsOf(IBroker companion) => companion.Reports
        ?? throw new CourierException($"{companion.DisplayName} tells nothing");

    private static QueueFigures Together(
        string name, QueueFigures[] taken, long? depth, IReadOnlyList<WorkerFigures> workers) => new(
            name, depth + taken.Sum(q => q.Ready),
            // What its workers last said, which may be some seconds old.
            workers.SelectMany(w => w.Receivers).Where(r => r.Queue == name).Sum(r => (long)r.InHand),
            taken.Sum(q => q.Scheduled), taken.Sum(q => q.DeadLetters),
            // Of what waits at the broker nobody knows since when.
            depth == 0 ? taken.Max(q => q.OldestAge) : null)
        {
            // Where several have taken over of one queue, their counts are not of the same moments.
            History = taken is [var only] ? only.History : [],
        };
}
