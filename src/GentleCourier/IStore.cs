using System.Data.Common;

namespace GentleCourier;

/// <summary>
/// A service's own database, with its outbox and its inbox: what the service's code does with it. All members are
/// thread-safe, and all throw <see cref="CourierException"/> where the database cannot be reached or used.
/// </summary>
public interface IStore : IAsyncDisposable
{
    /// <summary>The engine that it is on, by the scheme of its addresses: <c>sqlite</c>, <c>postgres</c>.</summary>
    string Engine { get; }

    /// <summary>Where it is, for people: without any secret.</summary>
    string DisplayName { get; }

    /// <summary>How the engine's driver finds the service's database. It may hold a password: never show it.</summary>
    string ConnectionString { get; }

    /// <summary>
    /// Makes sure that the tables are there. Safe to repeat, and safe when several processes do it at once.
    /// </summary>
    /// <param name="create">
    /// Whether to make or upgrade them; otherwise it is an error that names what is missing.
    /// </param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task PrepareAsync(bool create, CancellationToken cancellationToken = default);

    /// <summary>
    /// Opens a connection to the service's database, set up as the engine advises. The caller disposes it.
    /// </summary>
    Task<DbConnection> OpenConnectionAsync(CancellationToken cancellationToken = default);

    /// <summary>
    /// Sets up a connection that the service has opened by itself as the engine advises. It must be called each time
    /// such a connection is opened, before the outbox and the inbox are written on it.
    /// </summary>
    /// <exception cref="CourierException">
    /// It goes to another database: what is added there would never be relayed.
    /// </exception>
    Task AdoptAsync(DbConnection connection, CancellationToken cancellationToken = default);

    /// <summary>
    /// Commits a transaction of the service's on this store's database, and is sure of it: on PostgreSQL a transaction
    /// in which a statement has failed answers its own commit, without an error, by rolling back. In the same round
    /// trip as the commit.
    /// </summary>
    /// <param name="transaction">The caller's open transaction; it is over afterwards.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <exception cref="CourierException">
    /// It was rolled back; or it is over already, or belongs to another database; or the connection was lost in the
    /// middle, and the message says when it may have been committed all the same.
    /// </exception>
    Task CommitAsync(DbTransaction transaction, CancellationToken cancellationToken = default);
}
