using System.Runtime.CompilerServices;
using GentleCourier.Engines;

namespace GentleCourier.ByHand;

/// <summary>
/// Looks into queues without taking anything, and pauses them. Thread-safe; throws <see cref="CourierException"/> where
/// the broker cannot be reached or used, tells nothing of its queues, or is not set.
/// </summary>
public interface IQueues
{
    /// <summary>
    /// The events of a queue, waiting, in hand or for later; those that are handed over next before those that come
    /// later.
    /// </summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="limit">How many at the most, from 1 on; fewer, where they have more than 16 MiB.</param>
    /// <param name="beyond">
    /// Only those behind this <see cref="QueuedEvent.Place"/>. Nothing is held between two readings: what moves
    /// meanwhile may be seen twice, or not.
    /// </param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>No events, where there are no more.</returns>
    Task<QueueLook> LookAsync(
        string queue, int limit, string? beyond = null, CancellationToken cancellationToken = default);

    /// <summary>
    /// Nothing of a queue begins any more, in any worker, within three seconds at the latest: what handlers have they
    /// finish, what workers hold and have not begun goes back, and no attempt is counted for it. It survives restarts
    /// of all. Time in a pause does not count to <see cref="ReceiverOptions.Patience"/>. What stood before is replaced.
    /// </summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="by">Who wants it, for people: findings say it.</param>
    /// <param name="why">Why, for people.</param>
    /// <param name="duration">For how long, from a second on; null: until it is resumed.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <exception cref="CourierException">
    /// There is no such queue, or the broker cannot be paused: one over AMQP 1.0 whose receivers here have no store.
    /// </exception>
    Task PauseAsync(string queue, string by, string? why = null, TimeSpan? duration = null,
        CancellationToken cancellationToken = default);

    /// <summary>Ends a pause; where there is none, nothing.</summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task ResumeAsync(string queue, CancellationToken cancellationToken = default);
}

/// <summary>Reads all of what may be much.</summary>
public static class QueueReading
{
    private const int Page = 500;

    /// <summary>
    /// All events of a queue, read page by page: however many there are, a page of them is in memory. What the engine
    /// cannot show is passed over.
    /// </summary>
    /// <param name="queues">Where they are.</param>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="cancellationToken">Ends the reading.</param>
    public static async IAsyncEnumerable<QueuedEvent> ReadAllAsync(
        this IQueues queues, string queue, [EnumeratorCancellation] CancellationToken cancellationToken = default)
    {
        ArgumentNullException.ThrowIfNull(queues);
        for (string? beyond = null; ;)
        {
            var page = await queues.LookAsync(queue, Page, beyond, cancellationToken).ConfigureAwait(false);
            if (page.Events.Count == 0) yield break;
            foreach (var @event in page.Events) yield return @event;
            beyond = page.Events[^1].Place;
        }
    }
}

internal sealed class Queues(IBroker broker) : IQueues
{
    private readonly IBrokerReports reports = broker.Reports
        ?? throw new CourierException($"{broker.DisplayName} tells nothing of its queues; use its own tools");

    public Task PauseAsync(
        string queue, string by, string? why, TimeSpan? duration, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(queue);
        if (duration is { } time) Orders.Check(time);
        return Orders.Of(broker).PauseAsync(queue, duration, Orders.Note(by, why), cancellationToken);
    }

    public Task ResumeAsync(string queue, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(queue);
        return Orders.Of(broker).ResumeAsync(queue, cancellationToken);
    }

    public Task<QueueLook> LookAsync(string queue, int limit, string? beyond, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(queue);
        ArgumentOutOfRangeException.ThrowIfLessThan(limit, 1);
        return reports.LookAsync(queue, limit, beyond, cancellationToken);
    }
}

/// <summary>What was seen of a queue.</summary>
public sealed class QueueLook(IReadOnlyList<QueuedEvent> events, string? notShown = null)
{
    /// <summary>Events, as many as were asked for, or fewer.</summary>
    public IReadOnlyList<QueuedEvent> Events { get; } = events;

    /// <summary>What there is besides and cannot be shown, in words; null: nothing.</summary>
    public string? NotShown { get; } = notShown;
}

/// <summary>An event seen in a queue.</summary>
public sealed record QueuedEvent
{
    /// <summary>Where it was, to read on from there; as the engine writes it.</summary>
    public required string Place { get; init; }

    /// <summary>The event as it was published, UTF-8.</summary>
    public required ReadOnlyMemory<byte> Json { get; init; }

    /// <summary>How many times it has been handed over.</summary>
    public required int Attempts { get; init; }

    /// <summary>Whether it waits, is in hand, or comes later.</summary>
    public required QueuedState State { get; init; }

    /// <summary>Until when it is in that state, unless something else happens first; null where it is ready.</summary>
    public DateTimeOffset? Until { get; init; }

    /// <summary>The worker that has it in hand; null where none has.</summary>
    public string? Worker { get; init; }

    /// <summary>When the queue got it.</summary>
    public required DateTimeOffset Arrived { get; init; }

    /// <summary>Why the last attempt failed; null where none has.</summary>
    public string? LastError { get; init; }

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
