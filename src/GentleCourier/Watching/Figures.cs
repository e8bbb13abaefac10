namespace GentleCourier;

/// <summary>How full one queue is.</summary>
/// <param name="Queue">Its name.</param>
/// <param name="Ready">Events that may be handed over now; null where the engine cannot know.</param>
/// <param name="InHand">Events that a receiver has and has not settled; null where the engine cannot know.</param>
/// <param name="Scheduled">Events that come later; null where the engine cannot know.</param>
/// <param name="DeadLetters">Events set aside; null where the engine cannot know.</param>
/// <param name="OldestAge">
/// For how long the oldest event that is not yet handled has been in the queue: the next in line, or one in hand or
/// scheduled; null where there is none, or the engine cannot know.
/// </param>
public sealed record QueueFigures(
    string Queue, long? Ready, long? InHand, long? Scheduled, long? DeadLetters, TimeSpan? OldestAge);

/// <summary>How full an outbox is, and how its relay does.</summary>
/// <param name="Waiting">Events not yet relayed, held ones included.</param>
/// <param name="Held">Of these, the events that were deferred and will be tried again.</param>
/// <param name="Refused">Events that the broker refused for good; set aside, not counted as waiting.</param>
/// <param name="OldestAge">For how long the oldest waiting event has been there; null where none waits.</param>
/// <param name="Relay">The relay that leads, null where none does.</param>
/// <param name="LastError">Why nothing could be relayed when it was last tried, null where that worked.</param>
public sealed record OutboxFigures(
    long Waiting, long Held, long Refused, TimeSpan? OldestAge, string? Relay, string? LastError)
{
    /// <summary>
    /// About how many deleted rows lie in the outbox because its server has not cleared them away; null where the
    /// engine cannot know, or leaves none.
    /// </summary>
    public long? DeadRows { get; init; }

    /// <summary>
    /// For how long the oldest transaction in the server has been open that keeps deleted rows from being cleared
    /// away; null where there is none, or this user may not see it.
    /// </summary>
    public TimeSpan? OldestSnapshot { get; init; }

    /// <summary>Whose that transaction is, for people to find it; null where there is none.</summary>
    public string? SnapshotHolder { get; init; }
}
