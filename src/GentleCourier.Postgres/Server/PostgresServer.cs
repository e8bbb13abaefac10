using System.Data;
using System.Net.Sockets;
using System.Security.Authentication;
using Microsoft.Extensions.Logging;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>One database as one user: connections to it, and what to say when something fails. Thread-safe.</summary>
internal sealed class PostgresServer : IAsyncDisposable
{
    /// <summary>
    /// How long one of the library's own statements may take: long enough for a busy server, and short enough that a
    /// connection that has frozen is given up within seconds.
    /// </summary>
    public static readonly TimeSpan Limit = TimeSpan.FromSeconds(6);

    /// <summary>Asks before which transaction all have ended.</summary>
    public const string Ended = "SELECT pg_snapshot_xmin(pg_current_snapshot())::text::bigint";

    // Queues are always read by their keys. The planner must not conclude from the statistics of an empty moment that
    // it may as well read all of a table, nor plan the same statement again and again.
    private const string OwnPlans =
        "-c enable_seqscan=off -c enable_bitmapscan=off -c enable_hashjoin=off -c enable_mergejoin=off -c "
        + "plan_cache_mode=force_generic_plan -c jit=off";

    // What a server, a database or a role has for a default is meant for others.
    private const string OwnTransactions =
        "-c default_transaction_isolation=read\\ committed -c default_transaction_read_only=off "
        + "-c default_transaction_deferrable=off";

    // What a host leaves behind that is cut off, such as the lock on the inbox row of what it was handling, is gone
    // within half a minute; and of a process that hangs in the middle of a transaction, within five. Who listens is
    // idle, and so is what a pool keeps: a role's limit to that would cut them again and again.
    private const string LetsGo =
        "-c tcp_keepalives_idle=10 -c tcp_keepalives_interval=5 -c tcp_keepalives_count=3 -c tcp_user_timeout=25000 "
        + "-c idle_in_transaction_session_timeout=300000 -c idle_session_timeout=0";

    private readonly PostgresAddress address;
    private readonly TimeProvider clock;
    private readonly NpgsqlConnectionStringBuilder own;
    private readonly Lazy<NpgsqlDataSource> ownSource;
    private readonly Lazy<NpgsqlDataSource> services;
    private readonly Reachability reachability;
    private readonly CancellationTokenSource disposed = new();
    private Task asking = Task.CompletedTask;
    private bool isDirect;

    public PostgresServer(PostgresAddress address, TimeProvider clock, ILogger? logger = null)
    {
        reachability = new Reachability(address.DisplayName, logger);
        this.address = address;
        this.clock = clock;
        var common = new NpgsqlConnectionStringBuilder(address.Settings.ConnectionString);
        common.ApplicationName ??= $"courier {WorkerName.OfProcess}";
        Default(common, "Timeout", 6);
        Default(common, "Cancellation Timeout", 1000);
        Default(common, "Max Auto Prepare", 60);
        Default(common, "Auto Prepare Min Usages", 2);

        common.Options = $"{LetsGo} {common.Options}".TrimEnd();
        // What the library does by itself is part of nobody's transaction, whatever surrounds the call.
        own = new NpgsqlConnectionStringBuilder(common.ConnectionString)
        {
            NoResetOnClose = true, Enlist = false, Options = $"{OwnPlans} {OwnTransactions} {common.Options}",
        };
        ownSource = new(() => NpgsqlDataSource.Create(own));
        ConnectionString = common.ConnectionString;
        services = new(() => NpgsqlDataSource.Create(ConnectionString));
    }

    public string DisplayName => address.DisplayName;

    /// <summary>Where it is, however that is written.</summary>
    public string Place => address.Place;

    /// <summary>For the service's own connections; it may hold a password.</summary>
    public string ConnectionString { get; }

    /// <summary>As whom; null: as whom the operating system says.</summary>
    public string? UserName => address.Settings.Username;

    public string DatabaseName => address.Settings.Database!;

    public string SchemaName => address.SchemaName;

    /// <summary>
    /// What statements take for the time: nothing, which lets them read the server's clock, since hosts disagree; or
    /// the time of a clock that is not the system's, so that tests of delays take none.
    /// </summary>
    public NpgsqlParameter Now => Parameter.Of(clock == TimeProvider.System ? null : clock.GetUtcNow().UtcDateTime);

    /// <summary>The statement with this address's schema in it: statements are written for <c>courier</c>.</summary>
    public string Sql(string statement) => Schema.In(SchemaName, statement);

    /// <summary>The channel on which servers tell of changes of this kind.</summary>
    public string Channel(string what) => $"{SchemaName}.{what}";

    /// <summary>Opens a connection for the service's own statements; the caller disposes it.</summary>
    public async Task<NpgsqlConnection> OpenForServiceAsync(CancellationToken cancellationToken)
    {
        try
        {
            return await services.Value.OpenConnectionAsync(cancellationToken).ConfigureAwait(false);
        }
        catch (Exception e) when (IsProblem(e))
        {
            throw Problem(e, "reach", isConnecting: true);
        }
    }

    /// <summary>Opens a connection that no pool knows, for the library; the caller disposes it.</summary>
    public async Task<NpgsqlConnection> OpenAloneAsync(CancellationToken cancellationToken)
    {
        var connection = new NpgsqlConnection(new NpgsqlConnectionStringBuilder(
            own.ConnectionString) { Pooling = false, KeepAlive = 15 }.ConnectionString);
        try
        {
            await connection.OpenAsync(cancellationToken).ConfigureAwait(false);
            return connection;
        }
        catch
        {
            await connection.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    /// <summary>Runs statements on one of the library's own connections.</summary>
    public Task RunAsync(string tried, RoundTrip trip, CancellationToken cancellationToken, TimeSpan? limit = null) =>
        RunAsync(
            tried,
            async connection =>
            {
                try
                {
                    await trip.RunAsync(connection, limit ?? Limit, cancellationToken).ConfigureAwait(false);
                }
                catch when (trip.IsSeveral)
                {
                    // Those that are in use are closed when they are given back.
                    ownSource.Value.Clear();
                    throw;
                }
            },
            cancellationToken);

    /// <summary>Reads by several statements what was there at one moment.</summary>
    public Task ReadAtOnceAsync(RoundTrip trip, CancellationToken cancellationToken) => RunAsync(
        "read",
        async connection =>
        {
            var transaction = await connection.BeginTransactionAsync(IsolationLevel.RepeatableRead, cancellationToken)
                .ConfigureAwait(false);
            await using (transaction.ConfigureAwait(false))
            {
                await trip.RunAsync(connection, Limit, cancellationToken).ConfigureAwait(false);
                await transaction.CommitAsync(cancellationToken).ConfigureAwait(false);
            }
        },
        cancellationToken);

    private async Task RunAsync(string tried, Func<NpgsqlConnection, Task> run, CancellationToken cancellationToken)
    {
        var isConnecting = true;
        try
        {
            var connection = await ownSource.Value.OpenConnectionAsync(cancellationToken).ConfigureAwait(false);
            isConnecting = false;
            await using (connection.ConfigureAwait(false)) await run(connection).ConfigureAwait(false);
        }
        catch (Exception e) when (IsProblem(e))
        {
            // Where one connection has gone silent the others of its age have too: each would cost a time limit of its
            // own.
            if (e is not PostgresException) ownSource.Value.Clear();
            throw Problem(e, tried, isConnecting);
        }
    }

    /// <summary>
    /// Makes sure, once, that what is said at the start of a connection reaches the server. A pooler that swallows it
    /// gives each transaction another session, or may be told to: statements that were prepared in one are then run in
    /// another, and who listens hears nothing.
    /// </summary>
    /// <exception cref="CourierException">It does not; the message says what to do.</exception>
    public async Task CheckWayAsync(CancellationToken cancellationToken)
    {
        if (isDirect) return;
        await RunAsync(
            "look into",
            new RoundTrip().Add(
                "SELECT current_setting('plan_cache_mode') = 'force_generic_plan'",
                row => isDirect = row.GetBoolean(0)),
            cancellationToken).ConfigureAwait(false);
        if (!isDirect)
            throw new CourierException(
                $"cannot use {DisplayName}: a pooler stands between that drops the settings of a connection "
                + "(ignore_startup_parameters), and may give each transaction another session; name the server itself "
                + "in the address, or a pool in session mode that passes 'options' on");
    }

    /// <summary>
    /// Which database of which server it is, by when that was started and by the database's number: names of hosts and
    /// databases may differ, or be the same, and say nothing.
    /// </summary>
    public async Task<string> IdentityAsync(CancellationToken cancellationToken)
    {
        var identity = "";
        await RunAsync("look into", AskIdentity(found => identity = found), cancellationToken).ConfigureAwait(false);
        return identity;
    }

    /// <summary>The same, to be asked on any connection.</summary>
    public static RoundTrip AskIdentity(Action<string> found) => new RoundTrip().Add(
        "SELECT extract(epoch FROM pg_postmaster_start_time()) || ' ' || oid FROM pg_database WHERE datname = "
        + "current_database()", row => found(row.GetString(0)));

    public async ValueTask DisposeAsync()
    {
        await disposed.CancelAsync().ConfigureAwait(false);
        await Volatile.Read(ref asking).ConfigureAwait(false);
        if (ownSource.IsValueCreated) await ownSource.Value.DisposeAsync().ConfigureAwait(false);
        if (services.IsValueCreated) await services.Value.DisposeAsync().ConfigureAwait(false);
    }

    public static bool IsProblem(Exception e) =>
        e is NpgsqlException or IOException or SocketException or TimeoutException or AuthenticationException;

    /// <summary>
    /// Whether it says for certain that the transaction has not been committed: the server has answered, and lives on.
    /// </summary>
    public static bool IsRefusal(Exception e) => e is PostgresException { SqlState: var state }
        && !state.StartsWith("57P", StringComparison.Ordinal) && !state.StartsWith("08", StringComparison.Ordinal)
            && !state.StartsWith("XX", StringComparison.Ordinal);

    /// <summary>What went wrong, for a person: what was tried, where, what came back, and what to do next.</summary>
    /// <param name="e">What was thrown.</param>
    /// <param name="tried">What was tried.</param>
    /// <param name="isConnecting">Whether nothing but a connection was asked for.</param>
    public CourierException Problem(Exception e, string tried, bool isConnecting = false)
    {
        var isAway = IsAway(e, isConnecting);
        if (isAway && !disposed.IsCancellationRequested && reachability.Lost(Reason(e)))
            Volatile.Write(ref asking, Task.Run(AskAsync));
        return new($"cannot {tried} {DisplayName}: {Reason(e)}", e)
        {
            IsTransient = IsTransient(e),
            // What is no text or number to it (22), or larger than it takes (54).
            IsAboutContent = e is PostgresException { SqlState: ['2', '2', ..] or ['5', '4', ..] },
            Reachability = isAway ? reachability : null,
        };
    }

    /// <summary>Asks now and then until it can be reached: one for all that need it.</summary>
    private async Task AskAsync()
    {
        while (true)
        {
            await Task.Delay(BackOff.Jitter(Reachability.AskEvery, Random.Shared.NextDouble()), disposed.Token)
                .ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (disposed.IsCancellationRequested) return;
            try
            {
                await (await OpenAloneAsync(disposed.Token).ConfigureAwait(false)).DisposeAsync().ConfigureAwait(false);
                break;
            }
            catch (Exception e) when (!disposed.IsCancellationRequested)
            {
                // One that refuses can be reached.
                if (IsProblem(e) && !IsAway(e, isConnecting: true)) break;
                reachability.StillAway(IsProblem(e) ? Reason(e) : Words.Of(e));
            }
            catch (Exception)
            {
                // Nobody needs to know any more.
            }
        }
        reachability.Found();
    }

    /// <summary>
    /// Whether it stops, starts or is not there (57P, 08), or the way to it is broken. A statement that takes too long
    /// is no sign of that.
    /// </summary>
    private static bool IsAway(Exception e, bool isConnecting)
    {
        if (e is PostgresException { SqlState: { Length: 5 } state })
            return state is ['5', '7', 'P', ..] or ['0', '8', ..];
        for (var inner = e; inner is not null; inner = inner.InnerException)
        {
            switch (inner)
            {
                case AuthenticationException or SocketException { SocketErrorCode: SocketError.HostNotFound }:
                    return false;
                case TimeoutException:
                    return isConnecting;
                case SocketException or IOException:
                    return true;
            }
        }
        return false;
    }

    /// <summary>
    /// Whether the server, or the way to it, may do later what it does not do now: by classes of SQLSTATE it is away
    /// (08), rolls back for the sake of others (40), lacks something (53), is told to stop or has a lock taken (55,
    /// 57), or its disk fails (58).
    /// </summary>
    public static bool IsTransient(Exception e)
    {
        if (e is PostgresException { SqlState: { Length: 5 } state })
            return state[..2] is "08" or "40" or "53" or "55" or "57" or "58";
        for (var inner = e; inner is not null; inner = inner.InnerException)
        {
            switch (inner)
            {
                case AuthenticationException or SocketException { SocketErrorCode: SocketError.HostNotFound }:
                    return false;
                case SocketException or TimeoutException or IOException:
                    return true;
            }
        }
        return IsPoolExhausted(e);
    }

    private static bool IsPoolExhausted(Exception e) =>
        e.Message.Contains("pool has been exhausted", StringComparison.Ordinal);

    private string User => address.Settings.Username is { } name ? $"the user '{name}'" : "this user";

    private string Reason(PostgresException server)
    {
        var said = server.MessageText;
        return server.SqlState switch
        {
            PostgresErrorCodes.InvalidPassword or PostgresErrorCodes.InvalidAuthorizationSpecification =>
                $"the server refuses {User}: {said}; check the user, and its password in the address, PGPASSWORD "
                + "or the password file",
            PostgresErrorCodes.InvalidCatalogName => $"{said}; check the name, or make it with `createdb`",
            PostgresErrorCodes.UndefinedTable or PostgresErrorCodes.InvalidSchemaName
                or PostgresErrorCodes.UndefinedColumn =>
                $"{said}; the tables of Gentle Courier are made with `courier schema apply`",
            PostgresErrorCodes.InsufficientPrivilege =>
                $"{User} lacks a right: {said}; its owner can say: GRANT USAGE ON SCHEMA {SchemaName} TO "
                + $"{UserName ?? "…"}; GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA {SchemaName} "
                + $"TO {UserName ?? "…"}",
            PostgresErrorCodes.TooManyConnections =>
                $"{said}; raise max_connections there, or lower 'maximum pool size' in the addresses",
            PostgresErrorCodes.ProtocolViolation
                when said.Contains("startup parameter", StringComparison.Ordinal) =>
                $"{said}: a pooler stands between, and takes no settings of a connection; name the server itself, "
                + "or a pool in session mode that takes 'options'",
            PostgresErrorCodes.ReadOnlySqlTransaction =>
                $"{said}; name the primary, if this is a standby; otherwise the transaction was begun as read "
                + "only, or default_transaction_read_only is on for this user or database",
            PostgresErrorCodes.InFailedSqlTransaction =>
                "a statement of this transaction had failed before and its error was caught, so that all of it is "
                + "rolled back; let the error be thrown, or undo that statement alone, to a savepoint "
                + "(DbTransaction.SaveAsync before it, RollbackAsync with that name after it)",
            PostgresErrorCodes.DiskFull =>
                $"its disk is full ({said}); free some space, nothing that was committed is lost",
            PostgresErrorCodes.QueryCanceled =>
                $"{said}; see which statements run or wait there in pg_stat_activity",
            _ => $"{said} ({server.SqlState})",
        };
    }

    private string Reason(Exception e)
    {
        if (e is PostgresException server) return Reason(server);
        for (var inner = e; inner is not null; inner = inner.InnerException)
        {
            switch (inner)
            {
                case SocketException { SocketErrorCode: SocketError.ConnectionRefused }:
                    return "nothing listens there; check host and port, and that the server runs";
                case SocketException
                {
                    SocketErrorCode: SocketError.HostNotFound or SocketError.TryAgain or SocketError.NoData,
                }:
                    return "there is no such host; check its name";
                case FileNotFoundException or DirectoryNotFoundException:
                    return $"{inner.Message.TrimEnd('.')}; check 'root certificate' and other files in the address";
                case NpgsqlException plain
                    when plain.Message.Contains("No SSL enabled connection", StringComparison.Ordinal):
                    return "the server takes no encrypted connections; have it set ssl = on with a certificate, or, "
                        + "where nobody can listen on the way to it, add '?ssl mode=Disable' to the address";
                case AuthenticationException tls:
                    return $"its certificate was not accepted: {tls.Message.TrimEnd('.')}; it must be made for the "
                        + $"host '{address.Settings.Host}', by an authority that this host knows or that the address "
                        + "names with '?root certificate=FILE'";
                case TimeoutException:
                    return "no answer came in time; check the network, and what the server is busy with in "
                        + "pg_stat_activity";
                case NpgsqlException npgsql when npgsql.Message.StartsWith(
                    "No password has been provided", StringComparison.Ordinal):
                    return $"the server wants a password of {User}, and there is none; set PGPASSWORD, or name it in a "
                        + "password file (~/.pgpass, PGPASSFILE)";
                case NpgsqlException when IsPoolExhausted(inner):
                    return "all connections of this process's pool are in use; return them sooner, or raise 'maximum "
                        + "pool size' in the address";
            }
        }
        return e.Message;
    }

    private static void Default(NpgsqlConnectionStringBuilder settings, string name, int value)
    {
        if (!settings.ShouldSerialize(name)) settings[name] = value;
    }
}
