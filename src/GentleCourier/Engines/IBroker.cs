namespace GentleCourier.Engines;

/// <summary>
/// The port to where queues live. All members are thread-safe, and all throw <see cref="CourierException"/> where the
/// broker cannot be reached or used.
/// </summary>
public interface IBroker : IAsyncDisposable
{
    /// <summary>Where it is, for people: without any secret.</summary>
    string DisplayName { get; }

    /// <summary>
    /// Makes sure that everything in <paramref name="topology"/> is there. Safe to repeat, and safe when several
    /// processes do it at once; never removes anything.
    /// </summary>
    /// <param name="topology">Queues and routes that this process counts on.</param>
    /// <param name="create">
    /// Whether to make what is missing, the broker's own tables too; otherwise it is an error that names it.
    /// </param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken = default);

    /// <summary>Queues and routes as they are.</summary>
    Task<Topology> ReadTopologyAsync(CancellationToken cancellationToken = default);

    /// <summary>
    /// Gives each event to every queue that its type is routed to, a copy each. When it returns, what was taken
    /// survives a loss of power. Events with the same partition key are taken in the order of the list: once one is
    /// deferred, the later ones with its key are too.
    /// </summary>
    /// <returns>What became of each event, in the order of the list.</returns>
    /// <exception cref="CourierException">
    /// The broker could not be asked, or the answer was lost: the events may or may not have been taken.
    /// </exception>
    Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken = default);

    /// <summary>Opens a link through which one worker receives from one queue.</summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="worker">Who receives, for people: shown with dead letters.</param>
    /// <param name="lease">For how long a delivery belongs to the link unless it is renewed; at least a second.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<IReceivingLink> OpenLinkAsync(
        string queue, string worker, TimeSpan lease, CancellationToken cancellationToken = default);

    /// <summary>How full each queue is, sorted by name.</summary>
    Task<IReadOnlyList<QueueFigures>> ReadFiguresAsync(CancellationToken cancellationToken = default);

    /// <summary>
    /// Looks at the events of a queue, waiting or in hand, without taking any; the next one to be handed over first.
    /// </summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="limit">How many at the most.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<IReadOnlyList<QueuedEvent>> PeekAsync(string queue, int limit, CancellationToken cancellationToken = default);

    /// <summary>Dead letters, the newest first.</summary>
    /// <param name="queue">Of this queue only; null for all.</param>
    /// <param name="limit">How many at the most.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<IReadOnlyList<DeadLetter>> ReadDeadLettersAsync(
        string? queue, int limit, CancellationToken cancellationToken = default);

    /// <summary>One dead letter by its number; null where there is none.</summary>
    Task<DeadLetter?> FindDeadLetterAsync(long number, CancellationToken cancellationToken = default);
}

/// <summary>Queues, and which types of events are routed to them.</summary>
/// <param name="Queues">Names: 1 to 100 lower-case letters, digits, <c>.</c>, <c>-</c>, <c>_</c>.</param>
/// <param name="Routes">Each queue named here must also be in <paramref name="Queues"/>.</param>
public sealed record Topology(IReadOnlyCollection<string> Queues, IReadOnlyCollection<Route> Routes)
{
    /// <summary>No queue and no route.</summary>
    public static Topology Empty { get; } = new([], []);
}

/// <summary>Events of this wire type get a copy in this queue.</summary>
public readonly record struct Route(string Type, string Queue);

/// <summary>What a broker did with one event.</summary>
public readonly record struct PublishResult
{
    private PublishResult(PublishFate fate, string? reason) => (Fate, Reason) = (fate, reason);

    /// <summary>What became of it.</summary>
    public PublishFate Fate { get; }

    /// <summary>Why it was not taken, for people; null where it was.</summary>
    public string? Reason { get; }

    /// <summary>Every routed queue has its copy, safely stored.</summary>
    public static PublishResult Taken { get; }

    /// <summary>
    /// Not now; the same event may be taken later, when what <paramref name="reason"/> names is mended.
    /// </summary>
    public static PublishResult Deferred(string reason) => new(PublishFate.Deferred, reason);

    /// <summary>Never: this event as it is will not be taken.</summary>
    public static PublishResult Refused(string reason) => new(PublishFate.Refused, reason);
}

/// <summary>What became of a published event.</summary>
public enum PublishFate
{
    /// <summary>Every routed queue has its copy.</summary>
    Taken,

    /// <summary>Try again later.</summary>
    Deferred,

    /// <summary>Do not try again.</summary>
    Refused,
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
        string? LastError);

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
