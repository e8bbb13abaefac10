using GentleCourier.ByHand;
using GentleCourier.Watching;

namespace GentleCourier.Engines;

/// <summary>
/// What a broker tells of its queues, to people and tools. All members are thread-safe, and all throw
/// <see cref="CourierException"/> where the broker cannot be reached or used. A figure that the engine cannot know is
/// null.
/// </summary>
internal interface IBrokerReports
{
    /// <summary>Queues and routes as they are.</summary>
    Task<Topology> ReadTopologyAsync(CancellationToken cancellationToken = default);

    /// <summary>How full each queue is, and who receives from it, all of one moment.</summary>
    Task<BrokerFigures> ReadFiguresAsync(CancellationToken cancellationToken = default);

    /// <summary>
    /// Looks at the events of a queue, waiting or in hand, without taking any; the next one to be handed over first.
    /// </summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="limit">How many at the most.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<IReadOnlyList<QueuedEvent>> PeekAsync(string queue, int limit, CancellationToken cancellationToken = default);
}
