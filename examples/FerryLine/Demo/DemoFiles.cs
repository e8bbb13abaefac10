using System.Text.Json;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Servers;
using GentleCourier.Sqlite;

namespace FerryLine.Demo;

/// <summary>
/// The folder in which one run keeps its databases and logs, a server's too where the engine needs one; deleted at the
/// end unless it was asked to be kept.
/// </summary>
internal sealed class DemoFiles : IDisposable
{
    private static readonly string[] Services = ["broker", "harbour", "fares", "deckcount", "notices"];

    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    private readonly bool keep;
    private readonly IEngine engine;
    private readonly PrivatePostgres? server;

    public DemoFiles(string engineName, DirectoryInfo? keepIn)
    {
        keep = keepIn is not null;
        if (keepIn is { Exists: true } && keepIn.EnumerateFileSystemInfos().Any())
            throw new IOException(
                $"{keepIn.FullName} is not empty; name a new folder, so that nothing of an earlier run is mixed in");
        Folder = keepIn is null ? Directory.CreateTempSubdirectory("ferryline-").FullName
            : Directory.CreateDirectory(keepIn.FullName).FullName;
        if (engineName == "sqlite")
        {
            engine = new SqliteEngine();
            WriteSettings();
            return;
        }
        engine = new PostgresEngine();
        // A server does not run as root; as another user it must be let through to its own folder.
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(
            Folder, File.GetUnixFileMode(Folder) | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute);
        server = new PrivatePostgres(Path.Combine(Folder, "server"));
        // The services read it from their environment.
        Environment.SetEnvironmentVariable("PGPASSWORD", server.Password);
        foreach (var service in Services) server.Create(service);
        WriteSettings();
    }

    /// <summary>The engines that a run may choose.</summary>
    public static string[] Engines { get; } = ["sqlite", "postgres"];

    public string Folder { get; }

    /// <summary>Where the day's files are.</summary>
    public string Data { get; set; } = Path.Combine(AppContext.BaseDirectory, "Data");

    /// <summary>Where the day is drawn: beside the databases, or where it outlives them.</summary>
    public string Picture => keep ? Path.Combine(Folder, "day.png")
        : Path.Combine(Path.GetTempPath(), "ferryline-day.png");

    /// <summary>The address of the broker.</summary>
    public string Broker => Address("broker");

    /// <summary>The address of the broker, as short as it tells something.</summary>
    public string ShownBroker => server is null ? "a SQLite file" : Broker;

    /// <summary>The address of a service's store.</summary>
    public string Store(string service) => Address(service.ToLowerInvariant());

    /// <summary>Stops the server at once, as a crash would, and starts it again.</summary>
    /// <exception cref="InvalidOperationException">The engine has none.</exception>
    public void KillServer()
    {
        if (server is null)
            throw new InvalidOperationException(
            "this engine has no server that could be killed; leave out --server-kills");
        server.Stop(immediately: true);
        server.Start();
    }

    public IBroker OpenBroker() => engine.CreateBroker(Parse(Broker), TimeProvider.System);

    public IStorePort OpenStore(string service) => engine.CreateStore(Parse(Store(service)), TimeProvider.System);

    /// <summary>A database for a service that is not one of the day's.</summary>
    public void CreateDatabase(string service) => server?.Create(service);

    /// <summary>So that in this folder `courier status` needs no addresses.</summary>
    private void WriteSettings() => File.WriteAllText(
        Path.Combine(Folder, "courier.json"),
        JsonSerializer.Serialize(
            new { broker = Broker, stores = Services.Skip(1).ToDictionary(s => s, Store) }, Indented) + "\n");

    public void Dispose()
    {
        if (server is not null && !keep) server.Dispose();
        else server?.Stop(immediately: false);
        if (!keep) Directory.Delete(Folder, recursive: true);
    }

    private string Address(string database) =>
        server is null ? $"sqlite:{Path.Combine(Folder, $"{database}.db")}" : $"{server.Address}/{database}";

    private static EngineAddress Parse(string address) =>
        EngineAddress.TryParse(address, out var parsed) ? parsed : throw new InvalidOperationException(address);
}
