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

    /// <inheritdoc cref="IQueues.LookAsync"/>
    Task<QueueLook> LookAsync(string queue, int limit, string? beyond, CancellationToken cancellationToken);
}

/// <summary>Looks at what all can be shown of.</summary>
internal static class Peeking
{
    private const int Page = 1000;

    /// <summary>The first events of a queue.</summary>
    /// <exception cref="CourierException">There are some that cannot be shown.</exception>
    public static async Task<IReadOnlyList<QueuedEvent>> PeekAsync(
        this IBrokerReports reports, string queue, int limit, CancellationToken cancellationToken = default)
    {
        var seen = new List<QueuedEvent>();
        while (seen.Count < limit)
        {
            var look = await reports.LookAsync(
                queue, Math.Min(Page, limit - seen.Count), seen.LastOrDefault()?.Place, cancellationToken)
                .ConfigureAwait(false);
            if (look.NotShown is { } hidden) throw new CourierException(hidden);
            if (look.Events.Count == 0) break;
            seen.AddRange(look.Events);
        }
        return seen;
    }
}
