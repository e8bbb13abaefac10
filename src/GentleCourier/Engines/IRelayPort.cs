using GentleCourier.Publishing;

namespace GentleCourier.Engines;

/// <summary>What a relay does with the outbox. Thread-safe.</summary>
internal interface IRelayPort
{
    /// <summary>
    /// Takes the lead among the relays of this store, or keeps it, for <paramref name="lease"/> from now on.
    /// </summary>
    /// <returns>
    /// The number of this term of leading, which grows with every change of the leader; null while another leads.
    /// </returns>
    Task<long?> LeadAsync(string relay, TimeSpan lease, CancellationToken cancellationToken = default);

    /// <summary>
    /// Gives up the lead, so that another relay can take it at once; nothing happens where the term is over.
    /// </summary>
    Task ResignAsync(long term, CancellationToken cancellationToken = default);

    /// <summary>
    /// Reads events that may be relayed now: fresh ones in the order in which they were added, and held ones that are
    /// due: those without a partition key each by itself; of a key that is due the oldest one alone, or, once that has
    /// gone, all that wait; of a type without a route, when that is due, the oldest alone, or, once that has gone, all
    /// that wait for it. What it costs depends on what is due, and not on what is held. Rows are found by being there,
    /// never by an id that was seen before: transactions commit out of order. Call it from one place at a time.
    /// </summary>
    /// <param name="limit">About how many; fewer, where they have more than <see cref="Budget.Bytes"/>.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<OutboxBatch> ReadOutboxAsync(int limit, CancellationToken cancellationToken = default);

    /// <summary>
    /// Reads the fresh events behind those that are on their way, where nothing else can come before them: not those
    /// whose key is held, and nothing where there is an event before the last of those that is not one of them, since
    /// it was committed late. For all else <see cref="ReadOutboxAsync"/> has to be called again soon; what is due next
    /// is not looked at. Call it where that is called from.
    /// </summary>
    /// <param name="underWay">All that was read and is not marked, at least one fresh event.</param>
    /// <param name="limit">As there.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<OutboxBatch> ReadOnAsync(
        IReadOnlyList<OutboxRow> underWay, int limit, CancellationToken cancellationToken = default);

    /// <summary>
    /// Writes down what the broker did with a batch. What is forgotten has been published, and is forgotten whoever
    /// leads; everything else is done only where <paramref name="term"/> is not over.
    /// </summary>
    /// <returns>Whether the term was still this relay's.</returns>
    Task<bool> MarkAsync(long term, OutboxMarks marks, CancellationToken cancellationToken = default);

    /// <summary>Of keys, those that events are held by.</summary>
    /// <param name="keys">As <see cref="HeldKey.Key"/>.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<IReadOnlySet<string>> ReadHeldKeysAsync(
        IReadOnlyCollection<string> keys, CancellationToken cancellationToken = default);

    /// <summary>
    /// Finds out whether the outbox and the broker's queues are in one database, so that events need not leave it on
    /// their way.
    /// </summary>
    /// <returns>The way; null where there is none.</returns>
    Task<IDirectWay?> FindDirectWayAsync(IBroker broker, CancellationToken cancellationToken = default);

    /// <summary>
    /// What brokers have confirmed to this store; its identity is drawn where it has none yet, and what came before the
    /// last of each broker is cleared away.
    /// </summary>
    /// <returns>Null where the term is over.</returns>
    Task<StoreMemory?> ReadConfirmedAsync(long term, CancellationToken cancellationToken = default);

    /// <summary>Goes on in a term above another, where a term is not over.</summary>
    /// <returns>The new term; null: it is over.</returns>
    Task<long?> RaiseTermAsync(long term, long above, CancellationToken cancellationToken = default);

    /// <summary>
    /// Forgets what brokers have confirmed, and ends the term: whatever the next leader finds is how it has to be.
    /// </summary>
    /// <param name="asNewStore">
    /// Whether this is from now on another store than the one that it was copied from.
    /// </param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task AcceptBrokerAsync(bool asNewStore, CancellationToken cancellationToken = default);

    /// <summary>Writes down why nothing could be relayed at all; null when it works again.</summary>
    Task RecordRelayErrorAsync(long term, string? error, CancellationToken cancellationToken = default);

    /// <summary>Waits until something may have been committed into the outbox, or the limit is over.</summary>
    Task WaitForOutboxAsync(TimeSpan limit, CancellationToken cancellationToken = default);
}

/// <summary>A way from an outbox into queues inside one database. Thread-safe.</summary>
internal interface IDirectWay
{
    /// <summary>
    /// Moves the next fresh events in one transaction, so that a relay that is killed publishes none twice. Moves
    /// nothing where
    /// <paramref name="term"/> is over.
    /// </summary>
    /// <returns>
    /// How many of each type it has moved. Fewer than the limit: what is left, if anything, has to be read and
    /// published, since an event waits for its turn, or the broker would not take one.
    /// </returns>
    Task<IReadOnlyDictionary<string, int>> MoveAsync(
        long term, int limit, CancellationToken cancellationToken = default);
}

/// <summary>Events to be relayed.</summary>
/// <param name="Rows">In the order in which they have to be published.</param>
/// <param name="DueIn">
/// How long it is until the next held event is due, by the database's clock; null where there is none.
/// </param>
/// <param name="IsFull">Whether a limit ended the reading, so that there may be more.</param>
internal sealed record OutboxBatch(IReadOnlyList<OutboxRow> Rows, TimeSpan? DueIn, bool IsFull = false)
{
    /// <summary>Nothing, since somebody has paused the relay by hand.</summary>
    public static OutboxBatch Paused { get; } = new([], null) { IsPaused = true };

    /// <summary>Whether somebody has paused the relay by hand.</summary>
    public bool IsPaused { get; private init; }
}

/// <summary>One event in an outbox.</summary>
/// <param name="Row">The engine's number of it, above 0 for a fresh one and below for one that is held.</param>
/// <param name="Attempts">How many times it has been deferred by itself.</param>
/// <param name="Event">The event.</param>
internal readonly record struct OutboxRow(long Row, int Attempts, EncodedEvent Event)
{
    /// <summary>
    /// When the server was started that gave it, as the engine reckons: another one may have given its number to
    /// another event. 0 where that cannot be.
    /// </summary>
    internal long Started { get; init; }

    /// <summary>Whether it was tried before, or waits behind one that was.</summary>
    public bool IsHeld => Row < 0;

    /// <summary>
    /// The obstacle that it waits for, as <see cref="HeldObstacle.Name"/>, where it is read since that is tried, or is
    /// gone; null: it waits for none.
    /// </summary>
    public string? WaitsFor { get; init; }
}

/// <summary>What becomes of a batch, as plain sets of rows.</summary>
/// <param name="Forgotten">Rows, as they were read, that the broker has taken.</param>
/// <param name="Held">Rows that are held from now on, or still.</param>
/// <param name="Keys">Partition keys, each once, whose held events are not due before their time.</param>
/// <param name="Freed">Partition keys whose oldest held event has gone: all that waits with them is due.</param>
internal sealed record OutboxMarks(
    IReadOnlyList<OutboxRow> Forgotten, IReadOnlyList<HeldRow> Held, IReadOnlyList<HeldKey> Keys,
    IReadOnlyList<string> Freed)
{
    /// <summary>
    /// What is held from now on of rows that are to go to several addresses, and have not come to all.
    /// </summary>
    public IReadOnlyList<HeldPart> Parts { get; init; } = [];

    /// <summary>What keeps events from leaving, each once.</summary>
    public IReadOnlyList<HeldObstacle> Obstacles { get; init; } = [];

    /// <summary>Obstacles that are gone: all that waited for that is due.</summary>
    public IReadOnlyList<string> Removed { get; init; } = [];

    /// <summary>Keys whose oldest event waited for an obstacle, and is forgotten.</summary>
    internal string[] TurnsOver => [.. Forgotten.Where(row => row.WaitsFor is not null)
        .Select(row => HeldKeys.Of(row.Event.Address, row.Event.PartitionKey)).OfType<string>()
        .Distinct(StringComparer.Ordinal)];

    /// <summary>Whether rows are forgotten, and nothing has to wait.</summary>
    internal bool IsForgettingAlone =>
        Held.Count + Parts.Count + Keys.Count + Freed.Count + Obstacles.Count + Removed.Count == 0;

    /// <summary>What the broker has confirmed by it; null where it keeps no stamps.</summary>
    public Confirmation? By { get; init; }
}

/// <summary>What is written down of a broker that has confirmed something.</summary>
/// <param name="Last">The last publish that it has confirmed.</param>
/// <param name="Before">The one that is forgotten for it; null: none.</param>
internal readonly record struct Confirmation(Confirmed Last, Stamp? Before);

/// <summary>A row that is held.</summary>
/// <param name="Row">The row, as it was read: a fresh one moves to those that are held.</param>
/// <param name="Attempts">How many times it has been deferred by itself; 0 where it waits behind another.</param>
/// <param name="After">When it is due, if it has no partition key; null: never, it is refused.</param>
/// <param name="Reason">Why.</param>
internal readonly record struct HeldRow(long Row, int Attempts, TimeSpan? After, string Reason)
{
    /// <summary>The obstacle that it waits for; then it is not due by itself, nor by its key. Null: none.</summary>
    public string? WaitsFor { get; init; }
}

/// <summary>An event that has not come to one of its addresses; its row makes room for what is left of it.</summary>
/// <param name="Row">The row, as it was read.</param>
/// <param name="Address">The address.</param>
/// <param name="Key">What it is held by, as <see cref="HeldKey.Key"/>; null: by itself.</param>
/// <param name="Attempts">How many times it has been deferred by itself; 0 where it waits behind another.</param>
/// <param name="After">When it is due, if it is held by itself; null: never, it is refused.</param>
/// <param name="Reason">Why.</param>
internal readonly record struct HeldPart(
    long Row, string Address, string? Key, int Attempts, TimeSpan? After, string Reason)
{
    /// <summary>The obstacle that it waits for; then it is not due by itself, nor by its key. Null: none.</summary>
    public string? WaitsFor { get; init; }
}

/// <summary>A partition key whose events are held, so that they stay in order.</summary>
/// <param name="Key">The key; of events that go to one address alone, address and key together.</param>
/// <param name="After">
/// When the oldest of them is tried again, from now on; null: that waits for an obstacle.
/// </param>
internal readonly record struct HeldKey(string Key, TimeSpan? After);

/// <summary>
/// What keeps all events of a type from leaving, or all that go to an address: however many wait for it, it is tried
/// with the oldest alone.
/// </summary>
/// <param name="Name">The type without a route, or the address that takes nothing.</param>
/// <param name="After">When, from now on.</param>
/// <param name="WasTried">
/// Whether this was such a try. Otherwise a fresh event has found it out, which puts off no try that is planned.
/// </param>
internal readonly record struct HeldObstacle(string Name, TimeSpan After, bool WasTried)
{
    /// <summary>What is in the way of an event that goes to this address, or to wherever its type does.</summary>
    public static string Of(string? address, string type) => address is null ? $"type {type}" : $"address {address}";
}
