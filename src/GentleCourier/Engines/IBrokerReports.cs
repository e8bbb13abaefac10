namespace GentleCourier.Engines;

/// <summary>
/// What a broker tells of its queues, to people and tools. All members are thread-safe, and all throw
/// <see cref="CourierException"/> where the broker cannot be reached or used. A figure that the engine cannot know is
/// null.
/// </summary>
public interface IBrokerReports
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
