using System.Collections.Concurrent;
using System.Data.Common;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>What is done in transactions of the service's own, on connections to its store's database. Thread-safe.
/// </summary>
internal sealed class ServiceTransactions(PostgresServer server)
{
    private readonly ConcurrentDictionary<string, bool> adopted = new(StringComparer.Ordinal);

    /// <summary>Databases are told apart by asking them, once for each way to reach one: names say nothing.</summary>
    public async Task AdoptAsync(DbConnection connection, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(connection);
        var service = Check(connection);
        if (adopted.ContainsKey(service.ConnectionString)) return;
        var theirs = "";
        await RunAsync(service, PostgresServer.AskIdentity(found => theirs = found), "look into", cancellationToken)
            .ConfigureAwait(false);
        var ours = await server.IdentityAsync(cancellationToken).ConfigureAwait(false);
        if (ours != theirs)
        {
            throw new CourierException(
                $"the service writes to the database '{service.Database}' on {service.DataSource}, and its store is "
                + $"{server.DisplayName}, another one of that name; "
                + "both must be one database, or their changes would not commit together");
        }
        adopted.TryAdd(service.ConnectionString, true);
    }

    /// <summary>Runs statements in the caller's transaction.</summary>
    public async Task JoinAsync(
        DbTransaction transaction, RoundTrip trip, string tried, CancellationToken cancellationToken)
    {
        var connection = await AdoptedAsync(transaction, cancellationToken).ConfigureAwait(false);
        await RunAsync(connection, trip, tried, cancellationToken).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.AddedNotCommitted);
    }

    /// <summary>Runs what is left to do in a transaction, and commits it in the same round trip.</summary>
    public Task CommitAsync(NpgsqlConnection connection, RoundTrip trip, CancellationToken cancellationToken)
    {
        // A transaction in which a statement has failed answers a commit, without an error, by rolling back; another
        // statement it refuses.
        if (trip.Count == 0) trip.Add("SELECT 1", static _ => { });
        trip.Add("COMMIT");
        return CommittingAsync(() => trip.RunAsync(connection, PostgresServer.Limit, cancellationToken));
    }

    /// <summary>A commit, which may have happened without our knowing.</summary>
    public async Task CommittingAsync(Func<Task> commit)
    {
        try
        {
            await commit().ConfigureAwait(false);
        }
        catch (Exception e) when (PostgresServer.IsProblem(e))
        {
            var problem = server.Problem(e, "commit to");
            throw PostgresServer.IsRefusal(e) ? problem : new CourierException(
                $"{problem.Message}; the answer was lost, so it may have been committed all the same: look for what "
                + "was written before you write it again", e) { IsTransient = problem.IsTransient };
        }
    }

    /// <summary>Runs statements on a connection of the service's.</summary>
    public async Task RunAsync(
        NpgsqlConnection connection, RoundTrip trip, string tried, CancellationToken cancellationToken)
    {
        try
        {
            await trip.RunAsync(connection, PostgresServer.Limit, cancellationToken).ConfigureAwait(false);
        }
        catch (Exception e) when (PostgresServer.IsProblem(e))
        {
            throw server.Problem(e, tried);
        }
    }

    /// <summary>The connection of a transaction, which goes to this store's database.</summary>
    public async ValueTask<NpgsqlConnection> AdoptedAsync(
        DbTransaction transaction, CancellationToken cancellationToken)
    {
        var connection = ConnectionOf(transaction);
        await AdoptAsync(connection, cancellationToken).ConfigureAwait(false);
        return connection;
    }

    /// <summary>The connection of a transaction that is not over.</summary>
    public NpgsqlConnection ConnectionOf(DbTransaction transaction)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        return transaction is NpgsqlTransaction known && IsOver(known) || transaction.Connection is null
            ? throw new CourierException("events cannot be added: the transaction is over; add them before the commit")
            : Check(transaction.Connection);
    }

    /// <exception cref="CourierException">It goes to another database than the store's.</exception>
    private NpgsqlConnection Check(DbConnection connection)
    {
        if (connection is NpgsqlConnection known && known.Database == server.DatabaseName) return known;
        var where = connection is NpgsqlConnection ? $"the database '{connection.Database}'"
            : $"a {connection.GetType().Name}";
        throw new CourierException(
            $"the service writes to {where}, and its store is {server.DisplayName}; both must be one database, or "
            + "their changes would not commit together: "
            + "open connections with IStore.OpenConnectionAsync, or by IStore.ConnectionString");
    }

    /// <summary>A statement would be a transaction of its own then. The driver says it only by throwing.</summary>
    public static bool IsOver(NpgsqlTransaction transaction)
    {
        try
        {
            _ = transaction.IsolationLevel;
            return false;
        }
        catch (InvalidOperationException)
        {
            return true;
        }
    }
}
