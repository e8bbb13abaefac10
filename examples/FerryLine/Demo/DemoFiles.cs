using System.Text.Json;
using GentleCourier.Amqp;
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
    private static readonly string[] Services = ["harbour", "fares", "deckcount", "notices"];

    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    private readonly bool keep;
    private readonly IEngine stores;
    private readonly PrivatePostgres? databases;
    // The nodes of one broker; none where that is the engine of the stores.
    private readonly List<PrivateAmqp> queues = [];

    public DemoFiles(string engineName, int nodes, DirectoryInfo? keepIn)
    {
        keep = keepIn is not null;
        if (keepIn is { Exists: true } && keepIn.EnumerateFileSystemInfos().Any())
            throw new IOException(
                $"{keepIn.FullName} is not empty; name a new folder, so that nothing of an earlier run is mixed in");
        Folder = keepIn is null ? Directory.CreateTempSubdirectory("ferryline-").FullName
            : Directory.CreateDirectory(keepIn.FullName).FullName;
        stores = engineName == "postgres" ? new PostgresEngine() : new SqliteEngine();
        // A server does not run as root; as another user it must be let through to its own folder.
        if (engineName != "sqlite" && OperatingSystem.IsLinux())
            File.SetUnixFileMode(
                Folder, File.GetUnixFileMode(Folder) | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute);
        if (engineName == "postgres") databases = StartDatabases();
        if (engineName == "amqp") queues = StartQueues(nodes);
        WriteSettings();
    }

    /// <summary>The engines that a run may choose.</summary>
    public static string[] Engines { get; } = ["sqlite", "postgres", "amqp"];

    public string Folder { get; }

    /// <summary>Where the day's files are.</summary>
    public string Data { get; set; } = Path.Combine(AppContext.BaseDirectory, "Data");

    /// <summary>Where the day is drawn: beside the databases, or where it outlives them.</summary>
    public string Picture => PictureOf("day");

    /// <summary>The same of a trace.</summary>
    public string TracePicture => PictureOf("trace");

    /// <summary>The address of the broker.</summary>
    public string Broker => queues is [] ? Address("broker")
        : $"{queues[0].Bare}{string.Concat(queues.Skip(1).Select(n => $",{n.Listens}"))}"
            + "/?queue=/amq/queue/{queue}";

    /// <summary>The address of the broker, as short as it tells something.</summary>
    public string ShownBroker => (databases, queues) is (null, []) ? "a SQLite file" : Broker;

    /// <summary>The address of a service's store.</summary>
    public string Store(string service) => Address(service.ToLowerInvariant());

    /// <summary>
    /// Stops the server at once, as a crash would, and starts it again; of a broker of several nodes, one of them.
    /// </summary>
    /// <exception cref="InvalidOperationException">The engine has none.</exception>
    public void KillServer()
    {
        if ((databases, queues) is (null, []))
            throw new InvalidOperationException(
            "this engine has no server that could be killed; leave out --server-kills");
        databases?.Stop(immediately: true);
        databases?.Start();
        if (queues is []) return;
        var node = queues[Random.Shared.Next(queues.Count)];
        node.Stop(immediately: true);
        node.Start();
    }

    /// <summary>The broker, with all that services keep for it.</summary>
    public IBroker OpenBroker() => queues is [] ? stores.CreateBroker(Parse(Broker), TimeProvider.System)
        : new AmqpEngine(isSecure: false).CreateBroker(Parse(Broker), TimeProvider.System).With(
            [.. Services.Skip(1).Select(
                s => new ServiceInView(s, stores.CreateCompanion(Parse(Store(s)), TimeProvider.System),
                    stores.CreateStore(Parse(Store(s)), TimeProvider.System)))]);

    /// <summary>
    /// Makes queues where that is an operator's work, and says where events go, where a broker keeps that.
    /// </summary>
    public async Task DeployAsync(IBroker broker, Topology topology, CancellationToken cancel)
    {
        if (queues is [])
        {
            await broker.PrepareAsync(topology, create: true, cancel);
            return;
        }
        foreach (var queue in topology.Queues) queues[0].Create(queue, isReplicated: queues.Count > 1);
        (string, string)[] receivers = [("fares", "fares"), ("deckcount", "deck-count"), ("notices", "notices")];
        foreach (var (service, queue) in receivers)
        {
            await using var companion = stores.CreateCompanion(Parse(Store(service)), TimeProvider.System);
            await companion.PrepareAsync(new Topology([queue], []), create: true, cancel);
        }
    }

    /// <summary>How many events a broker has that only it knows of: waiting and in hand, by its own command.</summary>
    public int HeldBy(string queue) => queues is [var first, ..] ? first.Depth(queue) : 0;

    public IStorePort OpenStore(string service) => stores.CreateStore(Parse(Store(service)), TimeProvider.System);

    /// <summary>A database for a service that is not one of the day's.</summary>
    public void CreateDatabase(string service) => databases?.Create(service);

    /// <summary>So that in this folder `courier status` needs no addresses.</summary>
    private void WriteSettings() => File.WriteAllText(
        Path.Combine(Folder, "courier.json"),
        JsonSerializer.Serialize(
            new { broker = Broker, stores = Services.ToDictionary(s => s, Store) }, Indented) + "\n");

    public void Dispose()
    {
        if (!keep)
        {
            databases?.Dispose();
            foreach (var node in Enumerable.Reverse(queues)) node.Dispose();
            Directory.Delete(Folder, recursive: true);
            return;
        }
        databases?.Stop(immediately: false);
        foreach (var node in Enumerable.Reverse(queues)) node.Stop(immediately: false);
    }

    // The services read passwords from their environment.
    private PrivatePostgres StartDatabases()
    {
        var server = new PrivatePostgres(Path.Combine(Folder, "server"));
        Environment.SetEnvironmentVariable("PGPASSWORD", server.Password);
        foreach (var service in Services.Prepend("broker")) server.Create(service);
        return server;
    }

    private List<PrivateAmqp> StartQueues(int nodes)
    {
        var first = new PrivateAmqp(Path.Combine(Folder, "server"));
        Environment.SetEnvironmentVariable("AMQP_PASSWORD", first.Password);
        return [first, .. Enumerable.Range(2, nodes - 1)
            .Select(n => new PrivateAmqp(Path.Combine(first.Folder, $"node-{n}"), joins: first))];
    }

    private string PictureOf(string what) => keep ? Path.Combine(Folder, $"{what}.png")
        : Path.Combine(Path.GetTempPath(), $"ferryline-{what}.png");

    private string Address(string database) => databases is null
        ? $"sqlite:{Path.Combine(Folder, $"{database}.db")}" : $"{databases.Address}/{database}";

    private static EngineAddress Parse(string address) =>
        EngineAddress.TryParse(address, out var parsed) ? parsed : throw new InvalidOperationException(address);
}
