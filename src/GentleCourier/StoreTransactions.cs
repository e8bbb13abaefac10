using System.Data.Common;

namespace GentleCourier;

/// <summary>Work in a store's transactions, without opening a connection oneself.</summary>
public static class StoreTransactions
{
    /// <summary>
    /// Opens a connection, begins a transaction, does <paramref name="work"/> in it, and commits; where the work
    /// throws, all is rolled back. A work that has committed by itself is left as it is.
    /// </summary>
    /// <param name="store">The service's store.</param>
    /// <param name="work">
    /// What is done in the transaction, with its connection: <c>transaction.Connection</c>. It is done once.
    /// </param>
    /// <param name="cancellationToken">Ends the wait for the database; handed to the work.</param>
    /// <exception cref="CourierException">
    /// The database cannot be reached or used, or has rolled back what was to be committed, since a statement of the
    /// work had failed; or a <c>TransactionScope</c> is open, with which this would not roll back.
    /// </exception>
    public static async Task TransactAsync(
        this IStore store, Func<DbTransaction, CancellationToken, Task> work,
        CancellationToken cancellationToken = default)
    {
        ArgumentNullException.ThrowIfNull(store);
        ArgumentNullException.ThrowIfNull(work);
        Ambient.Refuse(nameof(TransactAsync));
        var connection = await store.OpenConnectionAsync(cancellationToken).ConfigureAwait(false);
        await using var opened = connection.ConfigureAwait(false);
        var transaction = await connection.BeginTransactionAsync(cancellationToken).ConfigureAwait(false);
        await using var begun = transaction.ConfigureAwait(false);
        await work(transaction, cancellationToken).ConfigureAwait(false);
        if (!IsOver(transaction)) await store.CommitAsync(transaction, cancellationToken).ConfigureAwait(false);
    }

    /// <summary>Some drivers say it by having no connection any more, and some only by throwing.</summary>
    private static bool IsOver(DbTransaction transaction)
    {
        try
        {
            _ = transaction.IsolationLevel;
            return transaction.Connection is null;
        }
        catch (InvalidOperationException)
        {
            return true;
        }
    }
}
