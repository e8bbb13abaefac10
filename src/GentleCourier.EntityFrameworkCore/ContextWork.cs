using System.Data;
using System.Data.Common;
using GentleCourier.Engines;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Storage;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>
/// A context in whose transaction events are handled, on its own connection, with all that it has set up there.
/// </summary>
internal sealed class ContextWork(DbContext context) : IUnitOfWork
{
    private IDbContextTransaction? transaction;

    private DbContext Context { get; } = context;

    public async Task<DbTransaction> BeginAsync(IsolationLevel isolation, CancellationToken cancellationToken)
    {
        transaction = await Context.Database.BeginTransactionAsync(isolation, cancellationToken).ConfigureAwait(false);
        return transaction.GetDbTransaction();
    }

    public Task SaveAsync(CancellationToken cancellationToken)
    {
        if (!Context.ChangeTracker.HasChanges()) return Task.CompletedTask;
        NoRetries.From(Context);
        return Context.SaveChangesAsync(cancellationToken);
    }

    public Task CommitAsync(CancellationToken cancellationToken) => transaction!.CommitAsync(cancellationToken);

    public async Task EndAsync()
    {
        try
        {
            // Without a commit this rolls back.
            if (transaction is not null) await transaction.DisposeAsync().ConfigureAwait(false);
        }
        catch (Exception)
        {
            // The connection is gone, and so is the transaction. What failed before is what will be reported.
        }
    }

    /// <summary>It is the context that counts: a receiver may begin on one that is enlisted.</summary>
    public override bool Equals(object? obj) => obj is ContextWork other && ReferenceEquals(other.Context, Context);

    public override int GetHashCode() => Context.GetHashCode();

    public override string ToString() => Context.GetType().Name;
}
