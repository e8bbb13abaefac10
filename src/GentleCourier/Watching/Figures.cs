using GentleCourier.ByHand;

namespace GentleCourier.Watching;

/// <summary>What a broker says of its queues and of who receives from them, all of one moment.</summary>
public sealed class BrokerFigures(
    string broker, DateTimeOffset at, IReadOnlyList<QueueFigures> queues, IReadOnlyList<WorkerFigures>? workers)
{
    /// <summary>Its address, without a secret.</summary>
    public string Broker { get; } = broker;

    /// <summary>The moment, by the broker's clock.</summary>
    public DateTimeOffset At { get; } = at;

    /// <summary>Its queues, sorted by name.</summary>
    public IReadOnlyList<QueueFigures> Queues { get; } = queues;

    /// <summary>Who receives, sorted by name; null where the engine cannot know.</summary>
    public IReadOnlyList<WorkerFigures>? Workers { get; } = workers;

    /// <summary>What somebody has ordered them to do, and still stands.</summary>
    public IReadOnlyList<Instruction> Instructions { get; init; } = [];
}

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
    string Queue, long? Ready, long? InHand, long? Scheduled, long? DeadLetters, TimeSpan? OldestAge)
{
    /// <summary>The types of events that are routed to it; null where the engine cannot know.</summary>
    public IReadOnlyList<string>? Types { get; init; }

    /// <summary>
    /// What has been counted now and in the minutes before, the oldest first; empty where the engine does not count.
    /// </summary>
    public IReadOnlyList<QueueCounts> History { get; init; } = [];

    /// <summary>Who has paused it by hand, so that nothing of it is handed over; null where nobody has.</summary>
    public Pause? Pause { get; init; }

    /// <summary>Events that are not handled yet, whoever has them; null where the engine cannot know.</summary>
    public long? Waiting => Ready + InHand + Scheduled;
}

/// <summary>
/// What a queue has counted since it was made, exact and cumulative: of two such counts follow the rates between them.
/// </summary>
/// <param name="At">When, by the broker's clock.</param>
/// <param name="Came">Copies that it got.</param>
/// <param name="Accepted">Copies that were handled.</param>
/// <param name="Failed">Attempts that failed by a receiver's word, after which the event comes again.</param>
/// <param name="SetAside">Copies that were set aside as dead letters.</param>
public readonly record struct QueueCounts(DateTimeOffset At, long Came, long Accepted, long Failed, long SetAside);

/// <summary>How full an outbox is, and how its relay does.</summary>
/// <param name="Waiting">
/// Events not yet relayed, held ones included: exact, or where there are very many, what <see cref="Precision"/> says.
/// </param>
/// <param name="Held">Of these, the events that were deferred and will be tried again.</param>
/// <param name="Refused">Events that the broker refused for good; set aside, not counted as waiting.</param>
/// <param name="OldestAge">For how long the oldest waiting event has been there; null where none waits.</param>
/// <param name="Relay">The relay that leads, null where none does.</param>
/// <param name="LastError">Why nothing could be relayed when it was last tried, null where that worked.</param>
public sealed record OutboxFigures(
    long Waiting, long Held, long Refused, TimeSpan? OldestAge, string? Relay, string? LastError)
{
    /// <summary>Who has paused the relay by hand; null where nobody has.</summary>
    public Pause? Pause { get; init; }

    /// <summary>How far <see cref="Waiting"/>, <see cref="Held"/> and <see cref="Refused"/> are exact.</summary>
    public Precision Precision { get; init; }

    /// <summary>
    /// Events that wait until they are due, not counted as waiting; they are counted up to <see cref="MostLater"/>.
    /// </summary>
    public long Later { get; init; }

    /// <summary>
    /// How long until the next of them, or of the schedules, is due; negative where it is late, null where there
    /// is none.</summary>
    public TimeSpan? NextDueIn { get; init; }

    /// <summary>Beyond this number <see cref="Later"/> is not counted: 10,000.</summary>
    public static long MostLater => 10_000;

    /// <summary>
    /// How many other brokers have confirmed events to this store before the one that it publishes to now, and nobody
    /// has said that it is to be so.
    /// </summary>
    public int FormerBrokers { get; init; }

    /// <summary>
    /// The clock by which schedules and events for a time leave, where the store keeps one; null where it is that of a
    /// server.
    /// </summary>
    public ClockFigures? Clock { get; init; }

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

/// <summary>The clock by which what is named by the clock leaves a store: schedules, and events for a time.</summary>
public sealed class ClockFigures(TimeSpan? doubtedFor, DateTimeOffset time, IReadOnlyList<RelayClockFigures> apart)
{
    /// <summary>
    /// For how long no majority of the relays' clocks, and of what was agreed before, has been the same, so that
    /// nothing of that leaves; null: one is.
    /// </summary>
    public TimeSpan? DoubtedFor { get; } = doubtedFor;

    /// <summary>What it says now.</summary>
    public DateTimeOffset Time { get; } = time;

    /// <summary>The relays whose clocks are two seconds or more from it, the farthest first.</summary>
    public IReadOnlyList<RelayClockFigures> Apart { get; } = apart;
}

/// <summary>The clock of a relay.</summary>
public sealed class RelayClockFigures(string relay, TimeSpan ahead)
{
    /// <summary>Whose.</summary>
    public string Relay { get; } = relay;

    /// <summary>How far it is ahead of the store's; negative: behind it.</summary>
    public TimeSpan Ahead { get; } = ahead;
}

/// <summary>How far a number is exact.</summary>
public enum Precision
{
    /// <summary>It is what there is.</summary>
    Exact,

    /// <summary>There may be more: counting ended there.</summary>
    AtLeast,

    /// <summary>There may be less: it is the span of their numbers, in which some may be missing.</summary>
    AtMost,
}
