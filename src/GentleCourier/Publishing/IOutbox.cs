using System.Data.Common;

namespace GentleCourier;

/// <summary>
/// Publishes events with a business change: they are written in the caller's own transaction and leave after its
/// commit. A rollback leaves nothing behind. Thread-safe; the transaction is not.
/// </summary>
public interface IOutbox
{
    /// <summary>Adds one event.</summary>
    /// <param name="transaction">The caller's open transaction, on the store's database.</param>
    /// <param name="contract">The event's data: a type with a <see cref="WireTypeAttribute"/>.</param>
    /// <param name="options">What is said about it: id, subject, partition key, when it is due, and more.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <returns>The event's id.</returns>
    /// <exception cref="ContractException">The contract cannot be published; nothing was written.</exception>
    /// <exception cref="CourierException">The transaction is over, or belongs to another database.</exception>
    Task<string> AddAsync<TContract>(
        DbTransaction transaction,
        TContract contract,
        EventOptions? options = null,
        CancellationToken cancellationToken = default)
        where TContract : notnull;

    /// <summary>
    /// Adds one event in a transaction of its own, and commits it: for what goes with no change in the store's
    /// database.
    /// </summary>
    /// <param name="contract">The event's data: a type with a <see cref="WireTypeAttribute"/>.</param>
    /// <param name="options">What is said about it.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <returns>The event's id.</returns>
    /// <exception cref="ContractException">The contract cannot be published; nothing was written.</exception>
    /// <exception cref="CourierException">
    /// The database cannot be reached; or the connection was lost in the middle, and the message says when it may have
    /// been committed all the same. With an id of the business's it can be repeated without harm. Or a
    /// <c>TransactionScope</c> is open, with which the event would not roll back.
    /// </exception>
    Task<string> AddAloneAsync<TContract>(
        TContract contract, EventOptions? options = null, CancellationToken cancellationToken = default)
        where TContract : notnull;

    /// <summary>Adds many events, in their order: all, or none if one cannot be published.</summary>
    /// <param name="transaction">The caller's open transaction, on the store's database.</param>
    /// <param name="drafts">The events.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <returns>The events' ids, in the order of the drafts.</returns>
    /// <exception cref="ContractException">A contract cannot be published; nothing was written.</exception>
    /// <exception cref="CourierException">The transaction is over, or belongs to another database.</exception>
    Task<IReadOnlyList<string>> AddManyAsync(
        DbTransaction transaction, IEnumerable<EventDraft> drafts, CancellationToken cancellationToken = default);

    /// <summary>
    /// Adds one event as the last thing that the transaction does, and commits it. On a database server both travel
    /// together, so that publishing costs no round trip of its own.
    /// </summary>
    /// <param name="transaction">The caller's open transaction, on the store's database; it is over afterwards.</param>
    /// <param name="contract">The event's data: a type with a <see cref="WireTypeAttribute"/>.</param>
    /// <param name="options">What is said about it: id, subject, partition key, when it is due, and more.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <returns>The event's id.</returns>
    /// <exception cref="ContractException">
    /// The contract cannot be published; nothing was written, and the transaction is still open.
    /// </exception>
    /// <exception cref="CourierException">
    /// The transaction is over, or belongs to another database; or the connection was lost in the middle, and the
    /// message says when it may have been committed all the same.
    /// </exception>
    Task<string> AddAndCommitAsync<TContract>(
        DbTransaction transaction,
        TContract contract,
        EventOptions? options = null,
        CancellationToken cancellationToken = default)
        where TContract : notnull;

    /// <summary>
    /// Adds many events, in their order, as the last thing that the transaction does, and commits it.
    /// </summary>
    /// <param name="transaction">The caller's open transaction, on the store's database; it is over afterwards.</param>
    /// <param name="drafts">The events; may be none.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <returns>The events' ids, in the order of the drafts.</returns>
    /// <exception cref="ContractException">
    /// A contract cannot be published; nothing was written, and the transaction is still open.
    /// </exception>
    /// <exception cref="CourierException">As for one event.</exception>
    Task<IReadOnlyList<string>> AddManyAndCommitAsync(
        DbTransaction transaction, IEnumerable<EventDraft> drafts, CancellationToken cancellationToken = default);
}
