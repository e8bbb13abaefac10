using System.Data;
using System.Data.Common;
using GentleCourier.Events;
using GentleCourier.Watching;

namespace GentleCourier.Engines;

/// <summary>
/// The port to a service's own database, with its outbox and its inbox. All members are thread-safe, and all throw
/// <see cref="CourierException"/> where the database cannot be reached or used.
/// </summary>
public interface IStore : IAsyncDisposable
{
    /// <summary>Where it is, for people: without any secret.</summary>
    string DisplayName { get; }

    /// <summary>Makes sure that the tables are there. Safe to repeat, and safe when several processes do it at once.</summary>
    /// <param name="create">Whether to make or upgrade them; otherwise it is an error that names what is missing.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task PrepareAsync(bool create, CancellationToken cancellationToken = default);

    /// <summary>How the engine's driver finds the service's database. It may hold a password: never show it.</summary>
    string ConnectionString { get; }

    /// <summary>The table of the outbox, as statements name it.</summary>
    string OutboxTable { get; }

    /// <summary>Opens a connection to the service's database, set up as the engine advises. The caller disposes it.</summary>
    Task<DbConnection> OpenConnectionAsync(CancellationToken cancellationToken = default);

    /// <summary>
    /// Sets up a connection that the service has opened by itself as the engine advises. It must be called each time such a
    /// connection is opened, before the outbox and the inbox are written on it.
    /// </summary>
    /// <exception cref="CourierException">It goes to another database: what is added there would never be relayed.</exception>
    Task AdoptAsync(DbConnection connection, CancellationToken cancellationToken = default);

    /// <summary>Writes events into the outbox, in their order, as part of the caller's transaction.</summary>
    /// <exception cref="CourierException">The transaction is over, or not one of this store's database.</exception>
    Task AddAsync(DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken = default);

    /// <summary>
    /// Writes events into the outbox and commits the caller's transaction: where the engine can, in one round trip, so that
    /// publishing costs none of its own. With no events it is the commit alone.
    /// </summary>
    /// <exception cref="CourierException">
    /// The transaction is over, or not one of this store's database; or the connection was lost in the middle, and the
    /// message says when it may have been committed all the same.
    /// </exception>
    Task AddAndCommitAsync(DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken = default);

    /// <summary>
    /// Takes the lead among the relays of this store, or keeps it, for <paramref name="lease"/> from now on.
    /// </summary>
    /// <returns>The number of this term of leading, which grows with every change of the leader; null while another leads.</returns>
    Task<long?> LeadAsync(string relay, TimeSpan lease, CancellationToken cancellationToken = default);

    /// <summary>Gives up the lead, so that another relay can take it at once; nothing happens where the term is over.</summary>
    Task ResignAsync(long term, CancellationToken cancellationToken = default);

    /// <summary>
    /// Reads events that may be relayed now: fresh ones in the order in which they were added, and held ones that are
    /// due. Rows are found by being there, never by an id that was seen before: transactions commit out of order.
    /// </summary>
    /// <param name="limit">About how many.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<OutboxBatch> ReadOutboxAsync(int limit, CancellationToken cancellationToken = default);

    /// <summary>
    /// Writes down what the broker did with a batch: taken events leave, deferred ones are held until they are due again,
    /// refused ones are set aside with the reason. Changes nothing where <paramref name="term"/> is over.
    /// </summary>
    /// <returns>Whether the term was still this relay's.</returns>
    Task<bool> MarkAsync(long term, IReadOnlyList<RelayMark> marks, CancellationToken cancellationToken = default);

    /// <summary>
    /// Finds out whether the outbox and the broker's queues are in one database, so that events need not leave it on their way.
    /// </summary>
    /// <returns>The way; null where there is none.</returns>
    Task<IDirectWay?> FindDirectWayAsync(IBroker broker, CancellationToken cancellationToken = default) => Task.FromResult<IDirectWay?>(null);

    /// <summary>Writes down why nothing could be relayed at all; null when it works again.</summary>
    Task RecordRelayErrorAsync(long term, string? error, CancellationToken cancellationToken = default);

    /// <summary>
    /// Tells the relay of events that the caller has written into the outbox's table past <see cref="AddAsync"/>, which tells
    /// it by itself. Returns at once; where the news is lost, the relay finds the events when it looks, within two seconds.
    /// </summary>
    void WakeRelay();

    /// <summary>Waits until something may have been committed into the outbox, or the limit is over.</summary>
    Task WaitForOutboxAsync(TimeSpan limit, CancellationToken cancellationToken = default);

    /// <summary>
    /// Begins the transaction in which events are handled, their rows in the inbox already written.
    /// </summary>
    /// <param name="queue">In whose name they are handled.</param>
    /// <param name="events">The events.</param>
    /// <param name="work">Whose transaction it is to be, on this store's database; null: one of the store's own.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <returns>
    /// Null where one of the events has been handled in this queue's name before, or is in the list twice: nothing has
    /// begun. Waits while another transaction handles the same event.
    /// </returns>
    Task<IHandling?> BeginHandlingAsync(
        string queue, IReadOnlyList<EventKey> events, IUnitOfWork? work = null, CancellationToken cancellationToken = default);

    /// <summary>For each event whether it has been handled in this queue's name.</summary>
    Task<IReadOnlyList<bool>> LookIntoInboxAsync(string queue, IReadOnlyList<EventKey> events, CancellationToken cancellationToken = default);

    /// <summary>For each event whether it has been handled in this queue's name; where it has, a further copy is counted.</summary>
    Task<IReadOnlyList<bool>> AbsorbHandledAsync(string queue, IReadOnlyList<EventKey> events, CancellationToken cancellationToken = default);

    /// <summary>How full the outbox is, and how its relay does.</summary>
    Task<OutboxFigures> ReadOutboxFiguresAsync(CancellationToken cancellationToken = default);

    /// <summary>Events that could not be relayed at the first try: held with their last error, or set aside with the reason.</summary>
    Task<IReadOnlyList<HeldEvent>> ReadHeldAsync(int limit, CancellationToken cancellationToken = default);

    /// <summary>Events that have been handled, with the number of copies that came.</summary>
    Task<IReadOnlyList<InboxEntry>> ReadInboxAsync(string queue, CancellationToken cancellationToken = default);
}

/// <summary>A way from an outbox into queues inside one database. Thread-safe.</summary>
public interface IDirectWay
{
    /// <summary>
    /// Moves the next fresh events in one transaction, so that a relay that is killed publishes none twice. Moves nothing where
    /// <paramref name="term"/> is over.
    /// </summary>
    /// <returns>
    /// How many it has moved. Fewer than the limit: what is left, if anything, has to be read and published, since an event waits
    /// for its turn, or the broker would not take one.
    /// </returns>
    Task<int> MoveAsync(long term, int limit, CancellationToken cancellationToken = default);
}

/// <summary>The identity of an event from end to end.</summary>
public readonly record struct EventKey(string Source, string Id);

/// <summary>The transaction in which events are handled. Disposing it without a commit rolls it back.</summary>
public interface IHandling : IAsyncDisposable
{
    /// <summary>The transaction, open.</summary>
    DbTransaction Transaction { get; }

    /// <summary>Commits the inbox rows, the handler's effect and the events that it added, together.</summary>
    /// <param name="except">Events that were not handled after all: they get no row.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    Task CommitAsync(IReadOnlyList<EventKey> except, CancellationToken cancellationToken = default);
}

/// <summary>
/// What keeps a service's changes and a transaction for them, such as a DbContext, so that events can be handled in it. One
/// caller at a time.
/// </summary>
public interface IUnitOfWork
{
    /// <summary>Begins its transaction.</summary>
    Task<DbTransaction> BeginAsync(IsolationLevel isolation, CancellationToken cancellationToken);

    /// <summary>Writes what has been changed and is not written yet.</summary>
    Task SaveAsync(CancellationToken cancellationToken);

    /// <summary>Commits its transaction.</summary>
    Task CommitAsync(CancellationToken cancellationToken);

    /// <summary>Rolls its transaction back; nothing happens where it has been committed. It does not throw.</summary>
    Task EndAsync();
}

/// <summary>Events to be relayed.</summary>
/// <param name="Rows">In the order in which they have to be published.</param>
/// <param name="DueIn">How long it is until the next held event is due, by the database's clock; null where there is none.</param>
public sealed record OutboxBatch(IReadOnlyList<OutboxRow> Rows, TimeSpan? DueIn);

/// <summary>One event in an outbox.</summary>
/// <param name="Row">Its number in the outbox.</param>
/// <param name="Attempts">How many times it has been deferred.</param>
/// <param name="Event">The event.</param>
public readonly record struct OutboxRow(long Row, int Attempts, EncodedEvent Event);

/// <summary>What becomes of one row.</summary>
/// <param name="Row">The row, as it was read.</param>
/// <param name="Result">What the broker did with it.</param>
/// <param name="RetryAfter">For a deferred row: how long it is held, and every waiting row with its partition key.</param>
public readonly record struct RelayMark(OutboxRow Row, PublishResult Result, TimeSpan RetryAfter);

/// <summary>An event that stayed in the outbox after it had been tried.</summary>
/// <param name="Id">The event's id.</param>
/// <param name="Type">The event's wire type.</param>
/// <param name="Attempts">How often it was tried.</param>
/// <param name="LastError">Why it was not taken.</param>
/// <param name="Due">When it is tried again; null: never, it has been refused for good.</param>
/// <param name="Added">When it was added.</param>
public sealed record HeldEvent(string Id, string Type, int Attempts, string LastError, DateTimeOffset? Due, DateTimeOffset Added);

/// <summary>An event that has been handled.</summary>
/// <param name="Source">The event's source.</param>
/// <param name="Id">The event's id.</param>
/// <param name="Copies">How many copies came, 1 or more; all but the first had no effect.</param>
/// <param name="Handled">When the first was handled.</param>
public sealed record InboxEntry(string Source, string Id, int Copies, DateTimeOffset Handled);
