using System.Data.Common;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>
/// A broker and the services of one test, at a place of the engine's; all are stopped and deleted at the end.
/// </summary>
public sealed class Crossing : IAsyncDisposable
{
    // What is waited for in vain is told with what the hosts of the same test have logged.
    private static readonly AsyncLocal<Diary?> OfThisTest = new();

    private readonly Place place;
    private readonly Diary diary = new();
    private readonly Dictionary<string, IStorePort> stores = [];
    private IBroker? shared;
    private bool hasHarbour;
    private readonly List<IHost> hosts = [];
    private readonly List<IAsyncDisposable> opened = [];

    public Crossing(Place place)
    {
        this.place = place;
        Engine = place.Engine;
        OfThisTest.Value = diary;
    }

    public string BrokerAddress => place.Broker;

    /// <summary>The engine of services that are built from now on: the place's own, or one that a test names.</summary>
    internal IEngine Engine { get; set; }

    /// <summary>Changes what a store or a broker records of its tables, as a newer release would.</summary>
    public async Task RecordAsync(string part, DbConnection connection, string values) => await connection.ExecuteAsync(
        "UPDATE " + string.Format(System.Globalization.CultureInfo.InvariantCulture, place.RecordOf(part), values));

    /// <summary>A connection to the broker's database, past the library.</summary>
    public async Task<DbConnection> OpenBrokerAsync() =>
        await Opened(place.StoreEngine.CreateStore(Parse(BrokerAddress), TimeProvider.System)).OpenConnectionAsync();

    /// <summary>Keeps everybody else from publishing until the transaction of this connection ends.</summary>
    public Task LockBrokerAsync(DbConnection connection) => connection.ExecuteAsync(place.LockBroker);

    /// <summary>What has to be set of every service, as arguments of a program.</summary>
    public IEnumerable<string> PlaceSettings => place.Settings.Select(s => $"{s.Key}={s.Value}");

    public string StoreAddress(string service) => place.Store(service);

    /// <summary>The test's own broker, beside those of the services.</summary>
    internal IBroker Broker() => shared ??= AnotherBroker();

    /// <summary>What the broker tells.</summary>
    internal IBrokerReports Reports => Broker().Reports!;

    /// <summary>What the broker has set aside.</summary>
    public IDeadLetters DeadLetters => Broker().DeadLetters!;

    /// <summary>A broker with connections of its own.</summary>
    internal IBroker AnotherBroker(TimeProvider? clock = null) =>
        Opened(place.OpenBroker(clock ?? TimeProvider.System));

    /// <summary>The test's own store in a service's name, made once.</summary>
    internal IStorePort SharedStore(string service)
    {
        if (!stores.TryGetValue(service, out var store)) stores[service] = store = Store(service);
        return store;
    }

    internal IStorePort Store(string service, TimeProvider? clock = null) =>
        Opened(place.StoreEngine.CreateStore(Parse(StoreAddress(service)), clock ?? TimeProvider.System));

    /// <summary>Declares queues and routes, as a deployment would: <c>("type", "queue")</c>.</summary>
    public async Task RouteAsync(params (string Type, string Queue)[] routes) =>
        await AnotherBroker().PrepareAsync(
            new Topology([.. routes.Select(r => r.Queue).Distinct()],
                [.. routes.Select(r => new Route(r.Type, r.Queue))]), create: true);

    /// <summary>Builds a service with a store and the shared broker; it is not started.</summary>
    public IHost Build(string service, Action<CourierBuilder>? configure = null,
        Dictionary<string, string?>? settings = null, Action<IServiceCollection>? services = null)
    {
        hasHarbour |= service == "harbour";
        var builder = Host.CreateEmptyApplicationBuilder(new HostApplicationBuilderSettings());
        builder.Configuration.AddInMemoryCollection(new Dictionary<string, string?>
        {
            ["Courier:Source"] = $"/test/{service}",
            ["Courier:Store"] = StoreAddress(service),
            ["Courier:Broker"] = BrokerAddress,
            ["Courier:Relay:Lease"] = "00:00:01",
        });
        builder.Configuration.AddInMemoryCollection(place.Settings);
        if (settings is not null) builder.Configuration.AddInMemoryCollection(settings);
        builder.Logging.AddProvider(diary);
        services?.Invoke(builder.Services);
        builder.Services.AddGentleCourier(builder.Configuration.GetSection("Courier"), courier =>
        {
            courier.AddEngine(Engine);
            if (place.StoreEngine != place.Engine)
                courier.AddEngine(
                    Engine is TroubledEngine trouble ? trouble.Beside(place.StoreEngine) : place.StoreEngine);
            configure?.Invoke(courier);
        });
        var host = builder.Build();
        hosts.Add(host);
        return host;
    }

    public async Task<IHost> StartAsync(string service, Action<CourierBuilder>? configure = null,
        Dictionary<string, string?>? settings = null, Action<IServiceCollection>? services = null)
    {
        var host = Build(service, configure, settings, services);
        await host.StartAsync().WaitAsync(Limit);
        return host;
    }

    /// <summary>The number in a tap or a charge, out of the event around it.</summary>
    public static int NumberOf(ReadOnlyMemory<byte> json)
    {
        using var data = System.Text.Json.JsonDocument.Parse(CourierEvent.Read(json).Data);
        return data.RootElement.GetProperty("number").GetInt32();
    }

    /// <summary>The first column of a query, as numbers.</summary>
    internal static async Task<List<int>> NumbersAsync(IStorePort store, string sql)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var command = connection.CreateCommand();
        command.CommandText = sql;
        await using var reader = await command.ExecuteReaderAsync();
        var numbers = new List<int>();
        while (await reader.ReadAsync()) numbers.Add(reader.GetInt32(0));
        return numbers;
    }

    /// <summary>A tap as a publisher would have encoded it; its number is its id.</summary>
    internal static EncodedEvent TapEvent(int number, string? key = null) =>
        Numbered("test.tap", $"{number}", number, key);

    /// <summary>An event of another type; its id is its number behind a <c>c</c>.</summary>
    internal static EncodedEvent ChargedEvent(int number) => Numbered("test.charged", $"c{number}", number, null);

    /// <summary>An event of a type for which no test has a route.</summary>
    internal static EncodedEvent UnroutedEvent(int number, string key) =>
        Numbered("test.unrouted", $"{number}", number, key);

    /// <summary>A tap that is nearly as large as events may be.</summary>
    internal static EncodedEvent LargeEvent(int number) =>
        Numbered("test.tap", $"{number}", number, null, $",\"x\":\"{new string('x', 4_000_000)}\"");

    internal static EncodedEvent Numbered(string type, string id, int number, string? key, string more = "")
    {
        var data = $"{{\"number\":{number}{more}}}";
        return new(id, type, key, System.Text.Encoding.UTF8.GetBytes(
            $$"""{"specversion":"1.0","id":"{{id}}","source":"/t","type":"{{type}}","data":{{data}} }"""));
    }

    /// <summary>What a relay writes down of the first rows, where the broker has answered this.</summary>
    internal static OutboxMarks Marks(
        IReadOnlyList<OutboxRow> rows, TimeSpan after, params PublishResult[] results) =>
        Publishing.Marking.Of([.. rows.Take(results.Length)], results, _ => after);

    public async Task<QueueFigures> FiguresAsync(string queue) =>
        (await Reports.ReadFiguresAsync()).Queues.Single(f => f.Queue == queue);

    /// <summary>Waits until everything published by the harbour has been relayed, and all taps are settled.</summary>
    public Task SettledAsync(int deadLetters = 0) => UntilAsync(
        async () => (!hasHarbour || (await SharedStore("harbour").ReadOutboxFiguresAsync()).Waiting == 0)
            && await FiguresAsync("taps") is { Ready: 0, InHand: 0, Scheduled: 0 } figures
                && figures.DeadLetters == deadLetters,
        $"all is settled, with {deadLetters} dead letters");

    /// <summary>How long a test waits for anything: it only ends what hangs, on a machine however slow.</summary>
    public static TimeSpan Limit { get; } = TimeSpan.FromMinutes(4);

    /// <summary>Waits for a condition, with a limit after which the test fails and says what it waited for.</summary>
    /// <param name="condition">What is waited for.</param>
    /// <param name="what">Its name.</param>
    /// <param name="rigs">Processes whose words are told where it never comes.</param>
    public static async Task UntilAsync(Func<Task<bool>> condition, string what, params Rig[] rigs)
    {
        using var limit = new CancellationTokenSource(Limit);
        // To ask again and again takes the processor from those who are waited for.
        for (var pause = 5; !await condition(); pause = Math.Min(pause + 1, 25))
        {
            if (Array.Find(rigs, rig => rig.HasFailed) is { } failed)
                Assert.Fail($"a process failed while {what} was waited for\n{failed}");
            if (limit.IsCancellationRequested)
                Assert.Fail(InVain(what) + $"\n{string.Join('\n', rigs)}");
            await Task.Delay(pause, CancellationToken.None);
        }
    }

    /// <summary>The same while a clock goes on, a step for each look.</summary>
    public static async Task UntilAsync(
        FakeTimeProvider clock, TimeSpan step, Func<Task<bool>> condition, string what)
    {
        using var limit = new CancellationTokenSource(Limit);
        do
        {
            Assert.False(limit.IsCancellationRequested, InVain(what));
            clock.Advance(step);
            // Those who work have a moment for what they do in no time.
            await Task.Delay(5, CancellationToken.None);
        }
        while (!await condition());
    }

    private static string InVain(string what) =>
        $"waited {Limit.TotalSeconds} s in vain until {what}; the last that was logged:\n{OfThisTest.Value}";

    public async ValueTask DisposeAsync()
    {
        foreach (var host in hosts)
        {
            try
            {
                await host.StopAsync();
            }
            catch (ObjectDisposedException)
            {
                // The test has ended it already.
            }
            if (host is IAsyncDisposable disposable) await disposable.DisposeAsync();
        }
        foreach (var item in opened) await item.DisposeAsync();
        await place.DisposeAsync();
    }

    internal static EngineAddress Parse(string address) => EngineAddress.TryParse(address, out var parsed) ? parsed
        : throw new ArgumentException($"no address: {address}", nameof(address));

    private T Opened<T>(T item) where T : IAsyncDisposable
    {
        // Some tests open several at once.
        lock (opened) opened.Add(item);
        return item;
    }
}

public static class CrossingExtensions
{
    /// <summary>Settles, and fetches nothing along with it.</summary>
    internal static async Task<IReadOnlyList<bool>> SettledAsync(
        this IReceivingLink link, IReadOnlyList<Settlement> settlements) =>
        (await link.SettleAsync(settlements, 0, CancellationToken.None)).Took;

    internal static IStorePort Store(this IHost host) => host.Services.GetRequiredService<IStorePort>();

    /// <summary>Publishes events as a service would: in one transaction of its store.</summary>
    public static async Task PublishAsync<TContract>(this IHost host, params IEnumerable<TContract> contracts)
        where TContract : notnull =>
        await host.PublishAsync([.. contracts.Select(c => EventDraft.Of(c))]);

    public static async Task PublishAsync(this IHost host, params EventDraft[] drafts)
    {
        await using var connection = await host.Store().OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await host.Services.GetRequiredService<IOutbox>().AddManyAsync(transaction, drafts);
        await transaction.CommitAsync();
    }

    public static async Task ExecuteAsync(
        this DbConnection connection, string sql, params (string Name, object Value)[] parameters)
    {
        await using var command = connection.Command(sql, parameters);
        await command.ExecuteNonQueryAsync();
    }

    /// <summary>Whether a service's database has a table of that name.</summary>
    internal static async Task<bool> HasTableAsync(this IStorePort store, string table)
    {
        try
        {
            await store.CountAsync(table);
            return true;
        }
        catch (DbException)
        {
            return false;
        }
    }

    internal static async Task<long> CountAsync(this IStorePort store, string table)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var command = connection.Command($"SELECT count(*) FROM {table}");
        return (long)(await command.ExecuteScalarAsync())!;
    }

    private static DbCommand Command(
        this DbConnection connection, string sql, params (string Name, object Value)[] parameters)
    {
        var command = connection.CreateCommand();
        command.CommandText = sql;
        foreach (var (name, value) in parameters)
        {
            var parameter = command.CreateParameter();
            (parameter.ParameterName, parameter.Value) = (name, value);
            command.Parameters.Add(parameter);
        }
        return command;
    }
}
