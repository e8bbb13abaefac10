using System.Data;
using System.Data.Common;
using System.Runtime.CompilerServices;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>
/// Writes to a store's file: the library's own writes, and the transactions in which events are handled, take turns on
/// one connection. SQLite has one writer, and waiting in line is fairer and faster than running against its lock.
/// Thread-safe.
/// </summary>
internal sealed class StoreWriter(SqliteFile file, FileClock time) : IDisposable
{
    private readonly ConditionalWeakTable<SqliteConnection, ServiceConnection> services = [];
    private StoreStatements? statements;
    private FileIdentity? opened;

    public Turns Turns { get; } = new(file);

    public async Task<T> TakeTurnAsync<T>(Func<StoreStatements, T> write, CancellationToken cancellationToken)
    {
        // Before it waits for itself, which would look like somebody else's lock.
        Turns.RefuseInside(WriteFlow.Current);
        time.Load();
        await Turns.TakeAsync(cancellationToken).ConfigureAwait(false);
        return InTurn(write, cancellationToken);
    }

    /// <summary>Once the turn has been taken.</summary>
    public T InTurn<T>(Func<StoreStatements, T> write, CancellationToken cancellationToken)
    {
        using var ending = Patience.Until(cancellationToken);
        try
        {
            Turns.IsReaching = true;
            var result = write(Statements());
            Turns.IsReaching = false;
            return result;
        }
        catch (Exception e)
        {
            Turns.IsReaching = SqliteFile.IsLocked(e);
            // A connection in doubt is not used again.
            Close();
            if (SqliteFile.IsLocked(e)) cancellationToken.ThrowIfCancellationRequested();
            throw e is SqliteException ? file.Problem(e, "use") : e;
        }
        finally
        {
            Turns.Give();
        }
    }

    /// <summary>What is said on that connection; only for whoever has the turn.</summary>
    public StoreStatements Statements()
    {
        if (statements is { Connection.State: not ConnectionState.Open } || file.Identity != opened) Close();
        if (statements is not null) return statements;
        opened = file.Identity;
        return statements = new StoreStatements(new Prepared(file.Open()), time);
    }

    /// <summary>Only for whoever has the turn.</summary>
    public void Dispose() => Close();

    /// <summary>A connection in doubt is not used again.</summary>
    public void Close()
    {
        statements?.Dispose();
        statements = null;
    }

    /// <summary>Does something in the caller's transaction.</summary>
    public Task<T> InServiceAsync<T>(DbTransaction transaction, string tried, Func<ServiceConnection, long, T> act,
        CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        cancellationToken.ThrowIfCancellationRequested();
        if (transaction.Connection is null)
            throw new CourierException("events cannot be added: the transaction is over; add them before the commit");
        var service = On(transaction);
        try
        {
            var result = act(service, time.Now);
            FaultPoint.Pass(FaultPoint.AddedNotCommitted);
            return Task.FromResult(result);
        }
        catch (SqliteException e)
        {
            throw file.Problem(e, tried);
        }
    }

    /// <summary>What is said on a connection of the service's.</summary>
    public ServiceConnection On(DbTransaction transaction) =>
        services.GetValue(transaction.Connection as SqliteConnection ?? ServiceConnection.Check(
            transaction.Connection!, file), c => new ServiceConnection(c, file));
}
