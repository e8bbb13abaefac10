using System.Data;
using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Servers;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Npgsql;
using NpgsqlTypes;

namespace GentleCourier.Bench.Postgres;

/// <summary>
/// A private server for all runs, as durable as it is by default, and databases of one benchmark's halves in it.
/// </summary>
internal sealed class ServerWorkshop : IAsyncDisposable
{
    private static readonly Lazy<PrivatePostgres> Server = new(Start);
    private static readonly HashSet<string> Made = [];
    private readonly List<IAsyncDisposable> opened = [];

    public static string Address(string database)
    {
        lock (Made)
            if (Made.Add(database)) Server.Value.Create(database);
        return $"{Server.Value.Address}/{database}";
    }

    /// <summary>A new database in the place of an older one.</summary>
    public static string AddressOfNew(string database)
    {
        lock (Made)
            if (Made.Remove(database)) Server.Value.Drop(database);
        return Address(database);
    }

    public static NpgsqlConnection Open(string database, string? schema = null)
    {
        Address(database);
        var connection = Server.Value.Open(database);
        if (schema is not null) Execute(connection, schema);
        return connection;
    }

    public static void Execute(NpgsqlConnection connection, string sql)
    {
        using var command = new NpgsqlCommand(sql, connection) { CommandTimeout = 600 };
        command.ExecuteNonQuery();
    }

    /// <summary>A prepared command with parameters $1, $2 and so on.</summary>
    public static NpgsqlCommand Prepare(NpgsqlConnection connection, string sql, params NpgsqlDbType[] parameters)
    {
        var command = new NpgsqlCommand(sql, connection);
        foreach (var type in parameters) command.Parameters.Add(new NpgsqlParameter { NpgsqlDbType = type });
        command.Prepare();
        return command;
    }

    public static NpgsqlCommand With(NpgsqlCommand command, params object[] values)
    {
        for (var i = 0; i < values.Length; i++) command.Parameters[i].Value = values[i];
        return command;
    }

    public IHost Host(string store, string broker, Action<CourierBuilder> configure,
        Dictionary<string, string?>? settings = null, Action<IServiceCollection>? services = null)
    {
        var builder = Microsoft.Extensions.Hosting.Host.CreateEmptyApplicationBuilder(
            new HostApplicationBuilderSettings());
        builder.Configuration.AddInMemoryCollection(new Dictionary<string, string?>
        {
            ["Courier:Source"] = "/bench",
            ["Courier:Store"] = store,
            ["Courier:Broker"] = broker,
        });
        if (settings is not null) builder.Configuration.AddInMemoryCollection(settings);
        services?.Invoke(builder.Services);
        builder.Services.AddGentleCourier(
            builder.Configuration.GetSection("Courier"), courier => configure(courier.UsePostgres()));
        var host = builder.Build();
        opened.Add((IAsyncDisposable)host);
        return host;
    }

    public async Task<IBroker> BrokerAsync(string address)
    {
        if (!EngineAddress.TryParse(address, out var parsed))
            throw new ArgumentException($"no address: {address}", nameof(address));
        var broker = new PostgresEngine().CreateBroker(parsed, TimeProvider.System);
        opened.Add(broker);
        await broker.PrepareAsync(new Topology(["taps"], [new Route("bench.tap", "taps")]), create: true);
        return broker;
    }

    /// <summary>Fills the library's queue up to so many events, past the library: a million takes seconds.</summary>
    public async Task FillAsync(string database, int count)
    {
        await BrokerAsync(Address(database));
        await using var connection = Open(database);
        Execute(connection, $"""
            WITH added AS (
                INSERT INTO courier.copy (queue, arrived, event)
                SELECT 1, now(), convert_to(replace({Json}, '#', i::text), 'UTF8')
                    FROM generate_series(1, {count} - (SELECT count(*) FROM courier.copy)) i RETURNING 1)
            INSERT INTO courier.tally SELECT 1, 0, count(*), 0, 0, count(*), 0, 0, 0 FROM added
            ON CONFLICT (queue, slot) DO UPDATE
                SET copies = courier.tally.copies + excluded.copies, came = courier.tally.came + excluded.came
            """);
        Execute(connection, "VACUUM (ANALYZE)");
    }

    /// <summary>The same for the bare loop.</summary>
    public static void FillBare(string database, int count)
    {
        using var connection = Open(database, BareQueue);
        Execute(connection, $"""
            INSERT INTO queue (event) SELECT convert_to(replace({Json}, '#', i::text), 'UTF8')
            FROM generate_series(1, {count} - (SELECT count(*) FROM queue)) i
            """);
        Execute(connection, "VACUUM (ANALYZE)");
    }

    /// <summary>
    /// The rate of several clients, each of which connects, warms up and says that it is ready before the time begins.
    /// </summary>
    public static async Task<double> RateAsync(int events, int clients, Func<int, Action, Task> client)
    {
        using var ready = new Barrier(clients + 1);
        var all = Enumerable.Range(0, clients)
            .Select(c => Task.Factory.StartNew(() => client(c, ready.SignalAndWait), TaskCreationOptions.LongRunning)
            .Unwrap()).ToArray();
        ready.SignalAndWait();
        var began = Stopwatch.GetTimestamp();
        await Task.WhenAll(all);
        return Workshop.Rate(events, began);
    }

    public const string BareQueue =
        "CREATE TABLE IF NOT EXISTS queue (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, until timestamptz, "
        + "attempts int NOT NULL DEFAULT 0, event bytea NOT NULL)";

    /// <summary>Leases up to so many of the bare queue, and returns them.</summary>
    public static NpgsqlCommand BareLease(NpgsqlConnection connection, int limit) => Prepare(
        connection,
        "UPDATE queue SET until = now() + interval '30 s', attempts = attempts + 1 WHERE id = ANY (ARRAY ("
        + $"SELECT id FROM queue WHERE until IS NULL ORDER BY id LIMIT {limit} FOR UPDATE SKIP LOCKED)) "
        + "RETURNING id, event");

    /// <summary>Deletes rows of the bare queue.</summary>
    public static NpgsqlCommand BareDelete(NpgsqlConnection connection) => Prepare(
        connection, "DELETE FROM queue WHERE id = ANY ($1)", NpgsqlDbType.Array | NpgsqlDbType.Bigint);

    public static async Task<List<(long Id, byte[] Event)>> ReadAsync(NpgsqlCommand command)
    {
        var rows = new List<(long, byte[])>();
        await using var reader = await command.ExecuteReaderAsync();
        while (await reader.ReadAsync()) rows.Add((reader.GetInt64(0), reader.GetFieldValue<byte[]>(1)));
        return rows;
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var item in Enumerable.Reverse(opened)) await item.DisposeAsync();
    }

    private static string Json => $"'{System.Text.Encoding.UTF8.GetString(Workshop.Json(0)).Replace("\"number\":0",
        "\"number\":#", StringComparison.Ordinal)}'";

    private static PrivatePostgres Start()
    {
        var server = new PrivatePostgres(Directory.CreateTempSubdirectory("courier-bench-server-").FullName,
            "shared_buffers=512MB", "max_wal_size=4GB");
        Environment.SetEnvironmentVariable("PGPASSWORD", server.Password);
        AppDomain.CurrentDomain.ProcessExit += (_, _) => server.Dispose();
        return server;
    }
}
