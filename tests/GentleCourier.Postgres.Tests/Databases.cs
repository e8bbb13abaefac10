using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Servers;
using Npgsql;

[assembly: AssemblyFixture(typeof(GentleCourier.Postgres.Tests.SharedServer))]

namespace GentleCourier.Postgres.Tests;

/// <summary>The server of all tests that do not stop it; each has databases of its own in it.</summary>
public sealed class SharedServer : IDisposable
{
    private readonly PrivatePostgres server = Start();

    public SharedServer()
    {
        // As a service would get it: the driver reads it, and so do the processes that tests start.
        Environment.SetEnvironmentVariable("PGPASSWORD", server.Password);
        One = server;
    }

    public static PrivatePostgres One { get; private set; } = null!;

    /// <summary>Without what is for machines that fail: tests kill processes.</summary>
    public static PrivatePostgres Start() =>
        new(Directory.CreateTempSubdirectory("courier-postgres-").FullName, "fsync=off", "full_page_writes=off");

    public void Dispose() => server.Dispose();
}

/// <summary>Databases of one test on the shared server, or on one of its own.</summary>
public class Databases(PrivatePostgres server) : Place
{
    private static int made;

    private readonly Dictionary<string, string> names = [];
    private readonly Lock gate = new();

    public Databases() : this(SharedServer.One)
    {
    }

    internal override IEngine Engine { get; } = new PostgresEngine();

    public override string Broker => Address("broker");

    public override string Store(string service) => Address(service);

    public override string RecordOf(string part) => $"courier.{part}_version SET {{0}}";

    public override string LockBroker => "LOCK TABLE courier.copy IN EXCLUSIVE MODE";

    /// <summary>A connection to one of them, past the library.</summary>
    public NpgsqlConnection Open(string service) => server.Open(Name(service));

    public sealed override ValueTask DisposeAsync()
    {
        GC.SuppressFinalize(this);
        lock (gate)
        {
            foreach (var name in names.Values) server.Drop(name);
            names.Clear();
        }
        return ValueTask.CompletedTask;
    }

    protected string Address(string service) => $"{server.Address}/{Name(service)}";

    private string Name(string service)
    {
        lock (gate)
        {
            if (names.TryGetValue(service, out var name)) return name;
            name = $"{service}_{Interlocked.Increment(ref made)}";
            server.Create(name);
            return names[service] = name;
        }
    }
}
