using GentleCourier.Engines;

namespace GentleCourier.Companions;

/// <summary>
/// What is known of queues of a broker that has a companion: of the broker how many wait, of the companion what it has
/// taken over, and who receives. What neither knows is unknown.
/// </summary>
internal sealed class ReportsWithCompanion(IBroker broker, IBroker companion) : IBrokerReports
{
    private IBrokerReports Taken => companion.Reports
        ?? throw new CourierException($"{companion.DisplayName} tells nothing");

    public Task<Topology> ReadTopologyAsync(CancellationToken cancellationToken) =>
        Taken.ReadTopologyAsync(cancellationToken);

    public async Task<BrokerFigures> ReadFiguresAsync(CancellationToken cancellationToken)
    {
        var taken = await Taken.ReadFiguresAsync(cancellationToken).ConfigureAwait(false);
        var names = taken.Queues.Select(q => q.Queue).ToList();
        var depths = broker.Depths is { } port
            ? await port.ReadDepthsAsync(names, cancellationToken).ConfigureAwait(false)
            : new long?[names.Count];
        return taken with
        {
            Broker = broker.DisplayName,
            Queues = [.. taken.Queues.Select((queue, i) => Together(queue, depths[i], taken.Workers))],
        };
    }

    public Task<IReadOnlyList<QueuedEvent>> PeekAsync(string queue, int limit, CancellationToken cancellationToken) =>
        throw new CourierException(
            $"{broker.DisplayName} cannot show the events of queue '{queue}' without handing them over; those that have "
            + $"failed are at {companion.DisplayName}, which can be looked at as a broker of its own");

    private static QueueFigures Together(QueueFigures taken, long? depth, IReadOnlyList<WorkerFigures>? workers) =>
        taken with
        {
            Ready = depth + taken.Ready,
            // What its workers last said, which may be some seconds old.
            InHand = workers?.SelectMany(w => w.Receivers).Where(r => r.Queue == taken.Queue).Sum(r => (long)r.InHand),
            // Of what waits at the broker nobody knows since when.
            OldestAge = depth == 0 ? taken.OldestAge : null,
            Types = null,
            // What is handled at once is not counted.
            History = [],
        };
}
