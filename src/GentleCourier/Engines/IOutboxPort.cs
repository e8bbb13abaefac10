using System.Data.Common;

namespace GentleCourier.Engines;

/// <summary>Writes events into the outbox, inside the service's transactions. Thread-safe.</summary>
internal interface IOutboxPort
{
    /// <summary>The table of the outbox, as statements name it.</summary>
    string OutboxTable { get; }

    /// <summary>Writes events into the outbox, in their order, as part of the caller's transaction.</summary>
    /// <exception cref="CourierException">The transaction is over, or not one of this store's database.</exception>
    Task AddAsync(
        DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken = default);

    /// <summary>
    /// Writes events into the outbox and commits the caller's transaction: where the engine can, in one round trip, so
    /// that publishing costs none of its own. With no events it is the commit alone.
    /// </summary>
    /// <exception cref="CourierException">
    /// The transaction is over, or not one of this store's database; or the connection was lost in the middle, and the
    /// message says when it may have been committed all the same.
    /// </exception>
    Task AddAndCommitAsync(
        DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken = default);

    /// <summary>
    /// Tells the relay of events that the caller has written into the outbox's table past <see cref="AddAsync"/>, which
    /// tells it by itself. Returns at once; where the news is lost, the relay finds the events when it looks, within
    /// two seconds.
    /// </summary>
    void WakeRelay();
}
