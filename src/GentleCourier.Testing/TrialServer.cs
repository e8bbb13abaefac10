using System.Collections.Concurrent;
using System.Globalization;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using Npgsql;

namespace GentleCourier.Testing;

/// <summary>
/// A PostgreSQL server on which trials have databases of their own: each a copy of a template that is made once, with
/// what <see cref="Migrate"/> makes and the library's tables. One object for all tests of a process. Thread-safe.
/// </summary>
/// <remarks>
/// The user needs the right to create databases. A trial has a database for its broker and one for each of its
/// services, named <c>courier_trial_…</c>; what a killed run has left is removed by the first trial of a later one,
/// after six hours. In the databases of trials commits are not waited for to be on disk (<c>synchronous_commit</c> is
/// off).
/// </remarks>
public sealed class TrialServer : IAsyncDisposable
{
    private const string Prefix = "courier_trial_", Form = "yyyyMMddHHmm";

    private static readonly TimeSpan LeftAfter = TimeSpan.FromHours(6);

    private readonly string head, query, shown;
    private readonly string run =
        $"{Prefix}{DateTime.UtcNow.ToString(Form, CultureInfo.InvariantCulture)}_{Guid.NewGuid().ToString("N")[..8]}";
    private readonly Lazy<NpgsqlDataSource> server;
    private readonly ConcurrentDictionary<string, Lazy<Task<string>>> templates = new(StringComparer.Ordinal);
    private int made, hasCleared;

    /// <param name="address">
    /// <c>postgres://USER@HOST:PORT/DATABASE</c>, of a database that exists, from which others are made; the password
    /// as for any store, such as from <c>PGPASSWORD</c>.
    /// </param>
    /// <exception cref="CourierException">It is no such address.</exception>
    public TrialServer(string address)
    {
        if (!EngineAddress.TryParse(address, out var parsed) || parsed.Scheme != "postgres")
            throw new CourierException("this is no address of a PostgreSQL server: say postgres://USER@HOST/DATABASE");
        var place = PostgresAddress.Parse(parsed);
        (shown, var settings) = (place.DisplayName, place.Settings);
        var location = parsed.Location.Split('?', 2);
        (head, query) = (location[0][..location[0].LastIndexOf('/')], location.Length > 1 ? $"?{location[1]}" : "");
        // Making databases is for one connection at a time.
        server = new(() => NpgsqlDataSource.Create(new NpgsqlConnectionStringBuilder(settings.ConnectionString)
        {
            MaxPoolSize = 2, Timeout = 60, CommandTimeout = 300,
        }));
    }

    /// <summary>
    /// Makes a service's own tables in an empty database, once a process: called with the service's name and the
    /// connection string. The library's tables come after that. Null: databases are empty, and each service makes what
    /// it needs when it starts.
    /// </summary>
    public Func<string, string, CancellationToken, Task>? Migrate { get; init; }

    /// <summary>Removes the templates.</summary>
    public async ValueTask DisposeAsync()
    {
        foreach (var name in templates.Keys)
        {
            if (templates.TryRemove(name, out var template)
                && template is { IsValueCreated: true, Value.IsCompletedSuccessfully: true })
                await DropAsync(await template.Value.ConfigureAwait(false)).ConfigureAwait(false);
        }
        if (server.IsValueCreated) await server.Value.DisposeAsync().ConfigureAwait(false);
    }

    /// <summary>A new database for a service of a trial; null: for its broker.</summary>
    internal async Task<string> CreateAsync(string? service)
    {
        var template = await templates.GetOrAdd(service ?? "", _ => new(() => PrepareAsync(service))).Value
            .ConfigureAwait(false);
        var name = $"{run}_{Interlocked.Increment(ref made)}";
        await RunAsync($"CREATE DATABASE {name} TEMPLATE {template}").ConfigureAwait(false);
        await RunAsync($"ALTER DATABASE {name} SET synchronous_commit = off").ConfigureAwait(false);
        return name;
    }

    internal string AddressOf(string database) => $"postgres:{head}/{database}{query}";

    internal async Task DropAsync(string database)
    {
        try
        {
            await RunAsync($"DROP DATABASE IF EXISTS {database} WITH (FORCE)").ConfigureAwait(false);
        }
        catch (NpgsqlException)
        {
            // The server is away, or going: a later run removes it.
        }
    }

    private async Task<string> PrepareAsync(string? service)
    {
        if (Interlocked.Exchange(ref hasCleared, 1) == 0) await ClearAsync().ConfigureAwait(false);
        var name = $"{run}_t{Interlocked.Increment(ref made)}";
        await RunAsync($"CREATE DATABASE {name}").ConfigureAwait(false);
        var address = Places.Parse(AddressOf(name));
        var connection = PostgresAddress.Parse(address).Settings;
        // What is pooled would be left open, and a database that is in use is no template.
        connection.Pooling = false;
        var engine = new PostgresEngine();
        if (service is null)
        {
            var broker = engine.CreateBroker(address, TimeProvider.System);
            await using (broker.ConfigureAwait(false))
                await broker.PrepareAsync(Topology.Empty, create: true, CancellationToken.None).ConfigureAwait(false);
        }
        else if (Migrate is { } migrate)
        {
            await migrate(service, connection.ConnectionString, CancellationToken.None).ConfigureAwait(false);
            var store = engine.CreateStore(address, TimeProvider.System);
            await using (store.ConfigureAwait(false))
                await store.PrepareAsync(create: true, CancellationToken.None).ConfigureAwait(false);
        }
        await RunAsync($"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '{name}'")
            .ConfigureAwait(false);
        return name;
    }

    /// <summary>What killed runs have left.</summary>
    private async Task ClearAsync()
    {
        var old = $"{Prefix}{(DateTime.UtcNow - LeftAfter).ToString(Form, CultureInfo.InvariantCulture)}";
        var left = new List<string>();
        var command = server.Value.CreateCommand(
            $"""
            SELECT datname FROM pg_database
            WHERE starts_with(datname, '{Prefix}') AND datname COLLATE "C" < '{old}'
            """);
        await using (command.ConfigureAwait(false))
        {
            var reader = await command.ExecuteReaderAsync().ConfigureAwait(false);
            await using (reader.ConfigureAwait(false))
                while (await reader.ReadAsync().ConfigureAwait(false)) left.Add(reader.GetString(0));
        }
        foreach (var database in left) await DropAsync(database).ConfigureAwait(false);
    }

    private async Task RunAsync(string sql)
    {
        var command = server.Value.CreateCommand(sql);
        await using (command.ConfigureAwait(false))
        {
            try
            {
                await command.ExecuteNonQueryAsync().ConfigureAwait(false);
            }
            catch (PostgresException e) when (e.SqlState == PostgresErrorCodes.InsufficientPrivilege)
            {
                throw new CourierException(
                    $"the user of {shown} may not create or drop databases: `ALTER ROLE … CREATEDB`, or name another "
                    + $"user in the address of the TrialServer ({e.MessageText})", e);
            }
        }
    }
}
