using GentleCourier.Engines;

namespace GentleCourier;

/// <summary>
/// Looks into queues without taking anything. Thread-safe; throws <see cref="CourierException"/> where the broker
/// cannot be reached or used, tells nothing of its queues, or is not set.
/// </summary>
public interface IQueues
{
    /// <summary>The events of a queue, waiting or in hand; the next one to be handed over first.</summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="limit">How many at the most, from 1 on.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<IReadOnlyList<QueuedEvent>> PeekAsync(string queue, int limit, CancellationToken cancellationToken = default);
}

internal sealed class Queues(IBrokerReports reports) : IQueues
{
    public Task<IReadOnlyList<QueuedEvent>> PeekAsync(string queue, int limit, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(queue);
        ArgumentOutOfRangeException.ThrowIfLessThan(limit, 1);
        return reports.PeekAsync(queue, limit, cancellationToken);
    }
}

/// <summary>An event seen in a queue.</summary>
/// <param name="Json">The event as it was published, UTF-8.</param>
/// <param name="Attempts">How many times it has been handed over.</param>
/// <param name="State">Whether it waits, is in hand, or comes later.</param>
/// <param name="Until">
/// Until when it is in that state, unless something else happens first; null where it is ready.
/// </param>
/// <param name="Arrived">When the queue got it.</param>
/// <param name="LastError">Why the last attempt failed; null where none has.</param>
public sealed record QueuedEvent(
    ReadOnlyMemory<byte> Json, int Attempts, QueuedState State, DateTimeOffset? Until, DateTimeOffset Arrived,
        string? LastError)
{
    /// <summary>The times that it was set aside and sent back before, the oldest first.</summary>
    public IReadOnlyList<SentBack> History { get; init; } = [];
}

/// <summary>Where in a queue an event is.</summary>
public enum QueuedState
{
    /// <summary>May be handed over now.</summary>
    Ready,

    /// <summary>Will be ready at a later time.</summary>
    Scheduled,

    /// <summary>A receiver has it.</summary>
    InHand,
}
