using System.Data;
using System.Data.Common;

namespace GentleCourier.Engines;

/// <summary>What receivers do with the inbox. Thread-safe.</summary>
internal interface IInboxPort
{
    /// <summary>
    /// Begins the transaction in which events are handled, their rows in the inbox already written.
    /// </summary>
    /// <param name="queue">In whose name they are handled.</param>
    /// <param name="events">The events.</param>
    /// <param name="work">
    /// Whose transaction it is to be, on this store's database; null: one of the store's own.
    /// </param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <returns>
    /// Null where one of the events has been handled in this queue's name before, or is in the list twice: nothing has
    /// begun. Waits while another transaction handles the same event.
    /// </returns>
    Task<IInboxScope?> BeginHandlingAsync(
        string queue, IReadOnlyList<InboxEvent> events, IUnitOfWork? work = null,
            CancellationToken cancellationToken = default);

    /// <summary>For each event whether it has been handled in this queue's name.</summary>
    /// <param name="queue">The queue.</param>
    /// <param name="events">The events.</param>
    /// <param name="willHandle">
    /// Whether whoever asks is going to handle them: what that needs once for many events may be done along with it.
    /// </param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    Task<IReadOnlyList<bool>> LookIntoInboxAsync(string queue, IReadOnlyList<EventKey> events, bool willHandle = false,
        CancellationToken cancellationToken = default);

    /// <summary>
    /// For each event whether it has been handled in this queue's name; where it has, a further copy is counted, and
    /// written down if it has other data.
    /// </summary>
    Task<IReadOnlyList<InboxAnswer>> AbsorbHandledAsync(
        string queue, IReadOnlyList<InboxEvent> events, CancellationToken cancellationToken = default);

    /// <summary>
    /// Whether it is the database that failed, and not what was asked of it: it is away, full or busy, or has rolled
    /// back for the sake of others, and the same may succeed later. To be asked of what a receiver's own statements
    /// have thrown; what this library throws says it itself, <see cref="CourierException.IsTransient"/>.
    /// </summary>
    bool IsTransient(DbException exception);
}

/// <summary>The identity of an event from end to end.</summary>
internal readonly record struct EventKey(string Source, string Id);

/// <summary>An event as an inbox knows it.</summary>
/// <param name="Source">Its source.</param>
/// <param name="Id">Its id.</param>
/// <param name="Hash">Of its type and data; null: not known, and not compared.</param>
internal readonly record struct InboxEvent(string Source, string Id, int? Hash = null);

/// <summary>What an inbox knows of an event.</summary>
/// <param name="IsHandled">Whether one of its source and id has been handled.</param>
/// <param name="HandledHash">Of that one, where its data was another; null where it was the same, or is not known.
/// </param>
internal readonly record struct InboxAnswer(bool IsHandled, int? HandledHash = null);

/// <summary>The transaction in which events are handled. Disposing it without a commit rolls it back.</summary>
internal interface IInboxScope : IAsyncDisposable
{
    /// <summary>The transaction, open.</summary>
    DbTransaction Transaction { get; }

    /// <summary>Commits the inbox rows, the handler's effect and the events that it added, together.</summary>
    /// <param name="except">Events that were not handled after all: they get no row.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    Task CommitAsync(IReadOnlyList<EventKey> except, CancellationToken cancellationToken = default);
}

/// <summary>
/// What keeps a service's changes and a transaction for them, such as a DbContext, so that events can be handled in it.
/// One caller at a time.
/// </summary>
internal interface IUnitOfWork
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
