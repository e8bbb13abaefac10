namespace GentleCourier.Engines;

/// <summary>
/// The port to where queues live. All members are thread-safe, and all throw <see cref="CourierException"/> where the
/// broker cannot be reached or used.
/// </summary>
internal interface IBroker : IAsyncDisposable
{
    /// <summary>Where it is, for people: without any secret.</summary>
    string DisplayName { get; }

    /// <summary>What it can do beyond handing events over; what it cannot, the library does.</summary>
    BrokerAbilities Abilities { get; }

    /// <summary>What it has beside publishing and links. The same each time, and nothing is asked for it.</summary>
    BrokerServices Services { get; }

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
}

/// <summary>What not every broker can do.</summary>
[Flags]
internal enum BrokerAbilities
{
    /// <summary>It hands over, and takes back.</summary>
    None = 0,

    /// <summary>It gives an event again after a delay; otherwise the worker holds it for that long.</summary>
    Delays = 1,

    /// <summary>
    /// It counts attempts, and keeps the count when a worker dies; otherwise the worker counts those that it sees.
    /// </summary>
    Attempts = 2,

    /// <summary>
    /// It keeps what is rejected, with the reason; otherwise a companion in the receiving service's store does.
    /// </summary>
    DeadLetters = 4,

    /// <summary>
    /// It hands over the events of one partition key one at a time and in their order, to whichever worker.
    /// </summary>
    KeyOrder = 8,

    /// <summary>
    /// It knows which types of events go to which queues; otherwise the publisher does,
    /// <see cref="CourierOptions.Routes"/>, and says of each event where it goes.
    /// </summary>
    Routes = 16,

    /// <summary>All of it.</summary>
    All = Delays | Attempts | DeadLetters | KeyOrder | Routes,
}

/// <summary>Queues, and which types of events are routed to them.</summary>
/// <param name="Queues">Names: 1 to 100 lower-case letters, digits, <c>.</c>, <c>-</c>, <c>_</c>.</param>
/// <param name="Routes">Each queue named here must also be in <paramref name="Queues"/>.</param>
internal sealed record Topology(IReadOnlyCollection<string> Queues, IReadOnlyCollection<Route> Routes)
{
    /// <summary>
    /// Queues, of those in <see cref="Queues"/>, whose events of one partition key are handed over one at a time and in
    /// their order. A queue stays so once it is.
    /// </summary>
    public IReadOnlyCollection<string> InKeyOrder { get; init; } = [];

    /// <summary>No queue and no route.</summary>
    public static Topology Empty { get; } = new([], []);
}

/// <summary>Events of this wire type get a copy in this queue.</summary>
internal readonly record struct Route(string Type, string Queue);

/// <summary>What a broker did with one event; by default, not said: it is tried again.</summary>
internal readonly record struct PublishResult
{
    private readonly string? reason;

    private PublishResult(PublishFate fate, string? reason, bool isBlocked = false) =>
        (Fate, this.reason, IsBlocked) = (fate, reason, isBlocked);

    /// <summary>What became of it.</summary>
    public PublishFate Fate { get; }

    /// <summary>Why it was not taken, for people; null where it was.</summary>
    public string? Reason => reason ?? (Fate == PublishFate.Deferred ? "the broker has not said what became of it"
        : null);

    /// <summary>Every routed queue has its copy, safely stored.</summary>
    public static PublishResult Taken { get; } = new(PublishFate.Taken, null);

    /// <summary>
    /// Not now; the same event may be taken later, when what <paramref name="reason"/> names is mended.
    /// </summary>
    public static PublishResult Deferred(string reason) => new(PublishFate.Deferred, reason);

    /// <summary>Not now: nothing is routed for its type, and no event of that type will be taken.</summary>
    public static PublishResult Unrouted(string reason) => new(PublishFate.Deferred, reason, isBlocked: true);

    /// <summary>Not now: it was not sent, since its address takes nothing.</summary>
    public static PublishResult Unreachable(string reason) => new(PublishFate.Deferred, reason, isBlocked: true);

    /// <summary>
    /// Whether it was deferred for its address, or where it has none for its type, and not for itself.
    /// </summary>
    public bool IsBlocked { get; }

    /// <summary>Never: this event as it is will not be taken.</summary>
    public static PublishResult Refused(string reason) => new(PublishFate.Refused, reason);
}

/// <summary>What became of a published event.</summary>
internal enum PublishFate
{
    /// <summary>Try again later.</summary>
    Deferred,

    /// <summary>Every routed queue has its copy.</summary>
    Taken,

    /// <summary>Do not try again.</summary>
    Refused,
}
