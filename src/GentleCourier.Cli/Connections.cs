using System.CommandLine;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Sqlite;
using Microsoft.Extensions.Configuration;

namespace GentleCourier.Cli;

/// <summary>The command line, or a setting that it needs, is wrong.</summary>
internal sealed class UsageException(string message) : Exception(message);

/// <summary>Where the broker and the store are: from options, the environment, or courier.json.</summary>
internal sealed class Connections
{
    private const string ConfigurationFile = "courier.json";
    private static readonly IEngine[] Engines = [new SqliteEngine(), new PostgresEngine()];

    private readonly Option<string?> broker = new("--broker")
    {
        HelpName = "ADDRESS",
        Description = "The broker, such as sqlite:broker.db or postgres://USER@HOST/DATABASE.",
    };
    private readonly Option<string[]> store = new("--store")
    {
        HelpName = "ADDRESS",
        Description = "A service's store, such as sqlite:harbour.db; may be repeated.",
    };
    private readonly Option<FileInfo?> file = new(
        "--config") { HelpName = "FILE", Description = $"Settings to read instead of ./{ConfigurationFile}." };

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

    public IBroker? FindBroker(ParseResult result) =>
        AddressOf(result, "broker", WithoutPassword(result.GetValue(broker), "broker")) is { } text
            ? Open(text, "broker", (e, a) => e.CreateBroker(a, TimeProvider.System)) : null;

    public IBroker Broker(ParseResult result) => FindBroker(result) ?? throw NotSaid("broker");

    /// <exception cref="CourierException">Its engine tells nothing of its queues.</exception>
    public static IBrokerReports ReportsOf(IBroker broker) => broker.Reports ?? throw new CourierException(
        $"{broker.DisplayName} tells nothing of its queues; use its own tools");

    public List<IStorePort> FindStores(ParseResult result)
    {
        string?[] said = result.GetValue(store) is { Length: > 0 } several
            ? [.. several.Select(s => WithoutPassword(s, "store"))] : [AddressOf(result, "store", null)];
        return [.. said.OfType<string>().Select(
            text => Open(text, "store", (e, a) => e.CreateStore(a, TimeProvider.System)))];
    }

    public IStorePort Store(ParseResult result) => FindStores(result) switch
    {
        [var only] => only,
        [] => throw NotSaid("store"),
        _ => throw new UsageException("name one --store here"),
    };

    public static UsageException NotSaid(string what) => new(
        $"which {what}? Say --{what} ADDRESS, set COURIER_{what.ToUpperInvariant()}, or put \"{what}\" into "
        + $"{ConfigurationFile}; an address is like sqlite:{what}.db or postgres://USER@HOST/DATABASE");

    private static T Open<T>(string text, string what, Func<IEngine, EngineAddress, T> open) =>
        EngineAddress.TryParse(text, out var address) ? open(Engine(address.Scheme), address)
        : throw new UsageException(
            $"'{text}' is not the address of a {what}; one is like sqlite:{what}.db or postgres://USER@HOST/DATABASE");

    /// <summary>Everybody on this host can read a command line.</summary>
    private static string? WithoutPassword(string? said, string what) =>
        EngineAddress.TryParse(said, out var address)
            && Array.Exists(Engines, e => e.Scheme == address.Scheme && e.HoldsPassword(address))
            ? throw new UsageException(
                $"--{what} holds a password, which everybody on this host can read; give it in PGPASSWORD or a "
                + $"password file, or the whole address in COURIER_{what.ToUpperInvariant()}")
            : said;

    private string? AddressOf(ParseResult result, string what, string? option)
    {
        if (option is not null) return option;
        var path = result.GetValue(file)?.FullName ?? Path.GetFullPath(ConfigurationFile);
        if (result.GetValue(file) is { Exists: false }) throw new UsageException($"{path} does not exist");
        try
        {
            var settings = new ConfigurationBuilder().AddJsonFile(path, optional: true).Build();
            if (settings.GetChildren().FirstOrDefault(s => s.Key is not ("broker" or "store")) is { } unknown)
                throw new UsageException($"'{unknown.Key}' in {path} is not a setting; there are broker and store");
            return Environment.GetEnvironmentVariable($"COURIER_{what.ToUpperInvariant()}") is { Length: > 0 } value
                ? value : settings[what];
        }
        catch (InvalidDataException e)
        {
            throw new UsageException($"{path} cannot be read as JSON: {e.InnerException?.Message ?? e.Message}");
        }
    }
}
