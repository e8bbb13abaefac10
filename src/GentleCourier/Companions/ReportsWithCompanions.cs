using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Tables;
using GentleCourier.Watching;

namespace GentleCourier.Companions;

/// <summary>
/// What is known of queues of a broker that has companions: of the broker how many wait, of the companions what they
/// have taken over, and who receives, and of relays where they publish to. What none knows is unknown.
/// </summary>
internal sealed class ReportsWithCompanions(
    IBroker broker, IReadOnlyList<IBroker> companions, IReadOnlyList<RouteTable> relays) : IBrokerReports
{
    public async Task<Topology> ReadTopologyAsync(CancellationToken cancellationToken)
    {
        var all = await AllAsync(reports => reports.ReadTopologyAsync(cancellationToken)).ConfigureAwait(false);
        var routes = await ReadRoutesAsync(cancellationToken).ConfigureAwait(false);
        return new Topology(
            [.. all.SelectMany(t => t.Queues).Concat(routes.Select(r => r.Queue)).Distinct()
                .Order(StringComparer.Ordinal)],
            routes);
    }

    public async Task<BrokerFigures> ReadFiguresAsync(CancellationToken cancellationToken)
    {
        var all = await AllAsync(reports => reports.ReadFiguresAsync(cancellationToken)).ConfigureAwait(false);
        var taken = all.SelectMany(f => f.Queues).ToLookup(q => q.Queue);
        var routes = (await ReadRoutesAsync(cancellationToken).ConfigureAwait(false))
            .ToLookup(r => r.Queue, r => r.Type);
        string[] queues = [.. taken.Select(g => g.Key).Union(routes.Select(g => g.Key)).Order(StringComparer.Ordinal)];
        var depths = broker.Depths is { } port
            ? await port.ReadDepthsAsync(queues, cancellationToken).ConfigureAwait(false)
            : new long?[queues.Length];
        var workers = WorkerJson.Sorted(all.SelectMany(f => f.Workers ?? []));
        return new BrokerFigures(
            broker.DisplayName, all.Count == 0 ? DateTimeOffset.UtcNow : all.Max(f => f.At),
            [.. queues.Select((queue, i) => Together(
                queue, [.. taken[queue]], depths[i], [.. routes[queue]], workers))],
            workers)
        {
            Instructions = [.. all.SelectMany(f => f.Instructions)],
        };
    }

    /// <summary>
    /// What companions have taken over, one after the other. What waits at the broker cannot be shown.
    /// </summary>
    public async Task<QueueLook> LookAsync(
        string queue, int limit, string? beyond, CancellationToken cancellationToken)
    {
        // A place begins with the number of its companion.
        var (at, place) = (0, (string?)null);
        if (beyond is not null && (beyond.Split(' ', 2) is not [var number, var rest]
            || !int.TryParse(number, out at) || at < 0 || (place = rest).Length == 0))
            throw new ArgumentException(
                $"'{beyond}' is no place in a queue; take the one of an event that was read before", nameof(beyond));
        for (; at < companions.Count; (at, place) = (at + 1, null))
        {
            var topology = await TryAsync(companions[at], reports => reports.ReadTopologyAsync(cancellationToken))
                .ConfigureAwait(false);
            if (topology?.Queues.Contains(queue) != true) continue;
            var look = await ReportsOf(companions[at]).LookAsync(queue, limit, place, cancellationToken)
                .ConfigureAwait(false);
            if (look.Events.Count == 0) continue;
            return new QueueLook(
                [.. look.Events.Select(e => e with { Place = $"{at} {e.Place}" })],
                await HiddenAsync(queue, cancellationToken).ConfigureAwait(false));
        }
        return new QueueLook([], await HiddenAsync(queue, cancellationToken).ConfigureAwait(false));
    }

    private async Task<string?> HiddenAsync(string queue, CancellationToken cancellationToken)
    {
        var depth = broker.Depths is { } port
            ? (await port.ReadDepthsAsync([queue], cancellationToken).ConfigureAwait(false))[0] : null;
        return depth == 0 ? null
            : $"{broker.DisplayName} cannot show the events that wait in queue '{queue}' without handing them over "
                + $"({(depth is { } count ? $"{count:N0} of them" : "nobody knows how many")}); what has failed is "
                + "beside the stores of those who receive";
    }

    /// <summary>Of all relays; of a store that has none, none.</summary>
    private async Task<IReadOnlyList<Route>> ReadRoutesAsync(CancellationToken cancellationToken)
    {
        var routes = new HashSet<Route>();
        foreach (var relay in relays)
        {
            try
            {
                routes.UnionWith(await relay.ReadAsync(cancellationToken).ConfigureAwait(false));
            }
            catch (CourierException e) when (e.IsAboutTables)
            {
                // It only receives, or has not been made yet.
            }
        }
        return [.. routes];
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
        string name, QueueFigures[] taken, long? depth, IReadOnlyList<string> types,
        IReadOnlyList<WorkerFigures> workers) => new(
            name, depth + taken.Sum(q => q.Ready),
            // What its workers last said, which may be some seconds old.
            workers.SelectMany(w => w.Receivers).Where(r => r.Queue == name).Sum(r => (long)r.InHand),
            taken.Sum(q => q.Scheduled), taken.Sum(q => q.DeadLetters),
            // Of what waits at the broker nobody knows since when.
            depth == 0 ? taken.Max(q => q.OldestAge) : null)
        {
            // Who else publishes to it is not known.
            Types = types.Count == 0 ? null : types,
            // Where several have taken over of one queue, their counts are not of the same moments.
            History = taken is [var only] ? only.History : [],
            Pause = taken.Select(q => q.Pause).FirstOrDefault(pause => pause is not null),
        };
}
