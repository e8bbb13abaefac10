using GentleCourier.Engines;

namespace GentleCourier.ByHand;

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
public sealed class QueuedEvent(
    ReadOnlyMemory<byte> json, int attempts, QueuedState state, DateTimeOffset? until, DateTimeOffset arrived,
    string? lastError)
{
    /// <summary>The event as it was published, UTF-8.</summary>
    public ReadOnlyMemory<byte> Json { get; } = json;

    /// <summary>How many times it has been handed over.</summary>
    public int Attempts { get; } = attempts;

    /// <summary>Whether it waits, is in hand, or comes later.</summary>
    public QueuedState State { get; } = state;

    /// <summary>Until when it is in that state, unless something else happens first; null where it is ready.</summary>
    public DateTimeOffset? Until { get; } = until;

    /// <summary>When the queue got it.</summary>
    public DateTimeOffset Arrived { get; } = arrived;

    /// <summary>Why the last attempt failed; null where none has.</summary>
    public string? LastError { get; } = lastError;

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
