using System.Data;
using System.Data.Common;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>
/// A connection that the store has opened for the service. Its transactions take their turns with those of all others
/// that the store has opened, and with the library's own; a statement outside of one waits for the file's lock, as on
/// any connection.
/// </summary>
internal sealed class StoreConnection(string settings, Turns turns, SqliteFile file) : SqliteConnection(settings)
{
    private static readonly AsyncLocal<bool> InHandling = new();

    /// <summary>Which file it has open.</summary>
    public FileIdentity? Opened { get; } = file.Identity;

    private WriteFlow? flow;

    /// <summary>
    /// Whether what is begun by this flow belongs to the handling of an event, which has the turn already.
    /// </summary>
    public static bool IsInHandling
    {
        set => InHandling.Value = value;
    }

    public override SqliteTransaction BeginTransaction(IsolationLevel isolationLevel, bool deferred)
    {
        if (InHandling.Value || flow is not null) return base.BeginTransaction(isolationLevel, deferred);
        turns.RefuseInside(WriteFlow.Current);
        var begun = WriteFlow.Begin();
        turns.Take();
        return Begin(begun, isolationLevel, deferred);
    }

    // Not an async method: the flow that is begun here has to be the caller's.
    protected override ValueTask<DbTransaction> BeginDbTransactionAsync(
        IsolationLevel isolationLevel, CancellationToken cancellationToken)
    {
        var deferred = isolationLevel == IsolationLevel.ReadUncommitted;
        if (InHandling.Value || flow is not null) return new(base.BeginTransaction(isolationLevel, deferred));
        turns.RefuseInside(WriteFlow.Current);
        return BeginAsync(WriteFlow.Begin(), isolationLevel, deferred, cancellationToken);
    }

    /// <summary>The driver sets it when a transaction begins, and takes it away however that ends.</summary>
    protected override SqliteTransaction? Transaction
    {
        get => base.Transaction;
        set
        {
            base.Transaction = value;
            if (value is null) GiveTurn();
        }
    }

    public override void Close()
    {
        base.Close();
        GiveTurn();
    }

    private async ValueTask<DbTransaction> BeginAsync(
        WriteFlow begun, IsolationLevel isolationLevel, bool deferred, CancellationToken cancellationToken)
    {
        await turns.TakeAsync(cancellationToken).ConfigureAwait(false);
        return Begin(begun, isolationLevel, deferred);
    }

    private SqliteTransaction Begin(WriteFlow begun, IsolationLevel isolationLevel, bool deferred)
    {
        flow = begun;
        begun.Open(turns);
        try
        {
            turns.IsReaching = true;
            var transaction = base.BeginTransaction(isolationLevel, deferred);
            turns.IsReaching = false;
            return transaction;
        }
        catch (Exception e)
        {
            turns.IsReaching = SqliteFile.IsLocked(e);
            GiveTurn();
            if (e is SqliteException) throw file.Problem(e, "begin a transaction in");
            throw;
        }
    }

    private void GiveTurn()
    {
        if (Interlocked.Exchange(ref flow, null) is not { } ended) return;
        ended.Close();
        turns.Give();
    }
}
