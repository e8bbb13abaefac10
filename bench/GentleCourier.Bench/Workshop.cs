using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Sqlite;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Bench;

/// <summary>Something that is done by the library and, for comparison, by the least code that does the same.</summary>
internal interface IBenchmark
{
    string Name { get; }

    string What { get; }

    int Events { get; }

    /// <summary>Events a second with the library.</summary>
    Task<double> OursAsync(Workshop workshop);

    /// <summary>Events a second with the driver alone.</summary>
    Task<double> BareAsync(Workshop workshop);
}

[WireType("bench.tap")]
internal sealed record Tap(int Number, string Pier, string Card, string Sailing);

/// <summary>A temporary folder for one run, with what both halves of a benchmark need.</summary>
internal sealed class Workshop : IAsyncDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("courier-bench-").FullName;
    private readonly List<IAsyncDisposable> opened = [];

    public string StoreFile => Path.Combine(folder, "store.db");

    /// <summary>The store of a second service.</summary>
    public string ReceiverFile => Path.Combine(folder, "receiver.db");

    public string BrokerFile => Path.Combine(folder, "broker.db");

    public static Tap Tap(int number) => new(number, "Longsand", $"card-{number % 400}", $"sailing-{number % 40}");

    public IHost Host(Action<CourierBuilder> configure, Dictionary<string, string?>? settings = null,
        Action<IServiceCollection>? services = null)
    {
        var builder = Microsoft.Extensions.Hosting.Host.CreateEmptyApplicationBuilder(
            new HostApplicationBuilderSettings());
        builder.Configuration.AddInMemoryCollection(new Dictionary<string, string?>
        {
            ["Courier:Source"] = "/bench",
            ["Courier:Store"] = $"sqlite:{StoreFile}",
            ["Courier:Broker"] = $"sqlite:{BrokerFile}",
        });
        if (settings is not null) builder.Configuration.AddInMemoryCollection(settings);
        services?.Invoke(builder.Services);
        builder.Services.AddGentleCourier(
            builder.Configuration.GetSection("Courier"), courier => configure(courier.UseSqlite()));
        var host = builder.Build();
        opened.Add((IAsyncDisposable)host);
        return host;
    }

    public async Task<IBroker> BrokerAsync()
    {
        var broker = new SqliteEngine().CreateBroker(new("sqlite", BrokerFile), TimeProvider.System);
        opened.Add(broker);
        await broker.PrepareAsync(new Topology(["taps"], [new Route("bench.tap", "taps")]), create: true);
        return broker;
    }

    /// <summary>Fills the library's broker. A large backlog is made once and copied for each run.</summary>
    public async Task BacklogAsync(int count)
    {
        var template = Path.Combine(Templates, $"ours-{count}.db");
        if (!File.Exists(template))
        {
            await using var broker = new SqliteEngine().CreateBroker(new("sqlite", template), TimeProvider.System);
            await broker.PrepareAsync(new Topology(["taps"], [new Route("bench.tap", "taps")]), create: true);
            foreach (var chunk in Enumerable.Range(0, count).Chunk(1000))
                await broker.PublishAsync([.. chunk.Select(i => new EncodedEvent($"{i}", "bench.tap", null, Json(i)))]);
        }
        File.Copy(template, BrokerFile);
    }

    /// <summary>Fills the library's broker past the library: ten million take a minute.</summary>
    public void Fill(int count)
    {
        BrokerAsync().GetAwaiter().GetResult();
        using var broker = Open(BrokerFile);
        var json = System.Text.Encoding.UTF8.GetString(Json(0)).Replace("\"number\":0", "\"number\":#");
        Execute(broker, $"""
            BEGIN;
            WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {count})
            INSERT INTO courier_copy (id, arrived, event)
                SELECT i, 1000 * unixepoch(), CAST(replace('{json}', '#', i) AS BLOB) FROM n;
            INSERT INTO courier_place (queue, due, copy) SELECT 1, arrived, id FROM courier_copy ORDER BY id;
            UPDATE courier_queue SET waiting = {count}, came = {count};
            COMMIT;
            """);
    }

    /// <summary>The same for the bare loop.</summary>
    public void BareBacklog(int count)
    {
        var template = Path.Combine(Templates, $"bare-{count}.db");
        if (!File.Exists(template))
        {
            using var broker = Open(template, RelayRate.BareBroker);
            using var insert = Prepare(broker, "INSERT INTO queue (due, event) VALUES (0, $1)", 1);
            Execute(broker, "BEGIN");
            for (var i = 0; i < count; i++) Run(insert, Json(i));
            Execute(broker, "COMMIT");
        }
        File.Copy(template, BrokerFile);
    }

    private static readonly string Templates = MakeTemplates();

    private static string MakeTemplates()
    {
        var made = Directory.CreateTempSubdirectory("courier-bench-templates-").FullName;
        AppDomain.CurrentDomain.ProcessExit += (_, _) => Directory.Delete(made, recursive: true);
        return made;
    }

    /// <summary>An event as the library would encode it, for both halves to move.</summary>
    public static byte[] Json(int number) => System.Text.Encoding.UTF8.GetBytes(
        $$"""{"specversion":"1.0","id":"{{Guid.CreateVersion7()}}","source":"/bench","type":"bench.tap","time":"2031-06-14T06:00:00+00:00","datacontenttype":"application/json","data":{"number":{{number}},"pier":"Longsand","card":"card-{{number % 400}}","sailing":"sailing-{{number % 40}}"} }""");

    /// <summary>A plain connection, as durable as the library's.</summary>
    public SqliteConnection Open(string file, string? schema = null)
    {
        var connection = new SqliteConnection($"Data Source={file};Pooling=False");
        connection.Open();
        Execute(connection, "PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL;" + schema);
        opened.Add(connection);
        return connection;
    }

    public static void Execute(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.CommandTimeout = 600;
        command.ExecuteNonQuery();
    }

    /// <summary>A prepared command with parameters $1, $2 and so on.</summary>
    public static SqliteCommand Prepare(SqliteConnection connection, string sql, int parameters)
    {
        var command = connection.CreateCommand();
        command.CommandText = sql;
        for (var i = 1; i <= parameters; i++) command.Parameters.Add(new SqliteParameter($"${i}", null));
        return command;
    }

    public static int Run(SqliteCommand command, params object?[] values)
    {
        for (var i = 0; i < values.Length; i++) command.Parameters[i].Value = values[i] ?? DBNull.Value;
        return command.ExecuteNonQuery();
    }

    public static double Rate(int events, long began) => events / Stopwatch.GetElapsedTime(began).TotalSeconds;

    public async ValueTask DisposeAsync()
    {
        foreach (var item in Enumerable.Reverse(opened)) await item.DisposeAsync();
        Directory.Delete(folder, recursive: true);
    }
}
