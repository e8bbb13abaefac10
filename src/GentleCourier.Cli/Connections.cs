using System.CommandLine;
using GentleCourier.Amqp;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Sqlite;
using Microsoft.Extensions.Configuration;

namespace GentleCourier.Cli;

/// <summary>The command line, or a setting that it needs, is wrong.</summary>
internal sealed class UsageException(string message) : Exception(message);

/// <summary>Something that was named, and by whom.</summary>
/// <param name="Name">Its name in the settings, or its address, without a secret.</param>
/// <param name="From">Where that was said: an option, a variable, a file.</param>
/// <param name="Port">The way to it.</param>
internal sealed record Named<T>(string Name, string From, T Port) : IAsyncDisposable
    where T : IAsyncDisposable
{
    public ValueTask DisposeAsync() => Port.DisposeAsync();
}

/// <summary>Where the broker and the stores are: from options, the environment, or courier.json.</summary>
internal sealed class Connections
{
    private const string ConfigurationFile = "courier.json";
    private static readonly IEngine[] Engines =
        [new SqliteEngine(), new PostgresEngine(), new AmqpEngine(isSecure: true), new AmqpEngine(isSecure: false)];

    private readonly Option<string?> broker = new("--broker")
    {
        HelpName = "ADDRESS",
        Description =
            "The broker, such as sqlite:broker.db, postgres://USER@HOST/DATABASE or amqps://USER@HOST.",
    };
    private readonly Option<string[]> store = new("--store")
    {
        HelpName = "STORE",
        Description = $"A service's store, by its address or its name in {ConfigurationFile}; may be repeated.",
    };
    private readonly Option<FileInfo?> file = new(
        "--config") { HelpName = "FILE", Description = $"Settings to read instead of ./{ConfigurationFile}." };

    public Connections() =>
        store.CompletionSources.Add(context => Completion.Of(() => Settings(context.ParseResult).Stores.Keys));

    private Connections(IEnumerable<Option> options)
    {
        foreach (var option in options)
        {
            if (option.Name == broker.Name) broker = (Option<string?>)option;
            if (option.Name == store.Name) store = (Option<string[]>)option;
            if (option.Name == file.Name) file = (Option<FileInfo?>)option;
        }
    }

    /// <summary>Those of a command line.</summary>
    public static Connections Of(ParseResult result) => new(result.CommandResult.Command.Options);

    /// <summary>Adds the options to a command.</summary>
    public Connections AddTo(Command command, bool broker = true, bool store = true)
    {
        if (broker) command.Options.Add(this.broker);
        if (store) command.Options.Add(this.store);
        command.Options.Add(file);
        return this;
    }

    public static IEngine Engine(string scheme) => Array.Find(Engines, e => e.Scheme == scheme)
        ?? throw new UsageException(
            $"there is no engine '{scheme}'; there is {string.Join(", ", Engines.Select(e => e.Scheme))}");

    public Named<IBroker>? FindBroker(ParseResult result)
    {
        var settings = Settings(result);
        var (text, from) = result.GetValue(broker) is { } said ? (WithoutPassword(said, "broker"), "--broker")
            : Variable("COURIER_BROKER") is { } value ? (value, "COURIER_BROKER")
            : (settings.Broker, settings.Path);
        if (text is null) return null;
        var port = Open(text, "broker", (e, a) => e.CreateBroker(a, TimeProvider.System));
        if (port.HasCompanions()) port = port.With(Companions(result));
        return new Named<IBroker>(port.DisplayName, from, port);
    }

    public IBroker Broker(ParseResult result) => FindBroker(result)?.Port ?? throw NotSaid("broker");

    /// <exception cref="CourierException">Its engine tells nothing of its queues.</exception>
    /// <exception cref="UsageException">The stores are not said that know of them.</exception>
    public static IBrokerReports ReportsOf(IBroker broker) => broker.Reports ?? throw (broker.HasCompanions()
        ? new UsageException(
            $"{broker.DisplayName} does not tell which queues there are; name the stores of those who receive from it "
            + $"as well: --store ADDRESS, or under \"stores\" in {ConfigurationFile}")
        : new CourierException($"{broker.DisplayName} tells nothing of its queues; use its own tools"));

    public List<Named<IStorePort>> FindStores(ParseResult result)
    {
        var settings = Settings(result);
        return [.. StoresSaid(result, settings).Select(s => OpenStore(s.Text, s.From, settings))];
    }

    /// <summary>What a broker leaves to them is beside the stores of those who receive from it.</summary>
    private List<ServiceInView> Companions(ParseResult result)
    {
        var settings = Settings(result);
        return [.. StoresSaid(result, settings).Select(s => Open(
            settings.Stores.GetValueOrDefault(s.Text, s.Text), "store", (e, a) => new ServiceInView(
                s.Text, e.CreateCompanion(a, TimeProvider.System), e.CreateStore(a, TimeProvider.System))))];
    }

    private (string Text, string From)[] StoresSaid(ParseResult result, SettingsFile settings) =>
        result.GetValue(store) is { Length: > 0 } several
            ? [.. several.Select(s => (WithoutPassword(s, "store")!, "--store"))]
            : Variable("COURIER_STORE") is { } value ? [(value, "COURIER_STORE")]
            : [.. settings.Stores.Keys.Select(name => (name, settings.Path))];

    public IStorePort Store(ParseResult result) => FindStores(result) switch
    {
        [var only] => only.Port,
        [] => throw NotSaid("store"),
        var several => throw new UsageException(
            $"name one --store here: {string.Join(", ", several.Select(s => s.Name))}"),
    };

    public static UsageException NotSaid(string what) => new(
        $"which {what}? Say --{what} ADDRESS, set COURIER_{what.ToUpperInvariant()}, or put "
        + (what == "store" ? "its name and address under \"stores\" into " : $"\"{what}\" into ")
        + $"{ConfigurationFile}; an address is like {EngineAddress.Examples(what)}");

    private static Named<IStorePort> OpenStore(string text, string from, SettingsFile settings)
    {
        if (settings.Stores.TryGetValue(text, out var address)) return new(text, from, Opened(address));
        if (!text.Contains(':', StringComparison.Ordinal) && settings.Stores.Count > 0)
            throw new UsageException(
                $"there is no store '{text}' in {settings.Path}; there is {string.Join(", ", settings.Stores.Keys)}");
        var port = Opened(text);
        return new(port.DisplayName, from, port);

        static IStorePort Opened(string address) =>
            Open(address, "store", (e, a) => e.CreateStore(a, TimeProvider.System));
    }

    private static T Open<T>(string text, string what, Func<IEngine, EngineAddress, T> open) =>
        EngineAddress.TryParse(text, out var address) ? open(Engine(address.Scheme), address)
        : throw new UsageException($"this is no address of a {what}: {EngineAddress.Wrong(text, what)}");

    /// <summary>Everybody on this host can read a command line.</summary>
    private static string? WithoutPassword(string? said, string what) =>
        EngineAddress.TryParse(said, out var address)
            && Array.Exists(Engines, e => e.Scheme == address.Scheme && e.HoldsPassword(address))
            ? throw new UsageException(
                $"--{what} holds a password, which everybody on this host can read; give it in "
                + $"{(address.Scheme == "postgres" ? "PGPASSWORD" : "AMQP_PASSWORD")} or a password file, or the whole "
                + $"address in COURIER_{what.ToUpperInvariant()}")
            : said;

    private static string? Variable(string name) =>
        Environment.GetEnvironmentVariable(name) is { Length: > 0 } value ? value : null;

    private SettingsFile Settings(ParseResult result)
    {
        var path = result.GetValue(file)?.FullName ?? Path.GetFullPath(ConfigurationFile);
        if (result.GetValue(file) is { Exists: false }) throw new UsageException($"{path} does not exist");
        return SettingsFile.Read(path);
    }

    /// <summary>What a file of settings says.</summary>
    private sealed record SettingsFile(string Path, string? Broker, IReadOnlyDictionary<string, string> Stores)
    {
        public static SettingsFile Read(string path)
        {
            try
            {
                var settings = new ConfigurationBuilder().AddJsonFile(path, optional: true).Build();
                if (settings.GetChildren().FirstOrDefault(s => s.Key is not ("broker" or "stores")) is { } unknown)
                    throw new UsageException(
                        $"'{unknown.Key}' in {path} is not a setting; there are broker and stores");
                var stores = settings.GetSection("stores");
                if (stores.Value is not null || stores.GetChildren().Any(s => s.Value is null))
                    throw new UsageException(
                        $"'stores' in {path} must give each store a name: {{ \"harbour\": \"sqlite:harbour.db\" }}");
                return new(path, settings["broker"],
                    stores.GetChildren().ToDictionary(s => s.Key, s => s.Value!, StringComparer.Ordinal));
            }
            catch (InvalidDataException e)
            {
                throw new UsageException($"{path} cannot be read as JSON: {e.InnerException?.Message ?? e.Message}");
            }
        }
    }
}
