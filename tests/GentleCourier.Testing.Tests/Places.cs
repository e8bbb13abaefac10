using GentleCourier.Servers;

[assembly: AssemblyFixture(typeof(GentleCourier.Testing.Tests.Servers))]

namespace GentleCourier.Testing.Tests;

/// <summary>One PostgreSQL server for all tests, started when it is first needed, and what trials make on it.</summary>
public sealed class Servers : IAsyncDisposable
{
    private static readonly Lazy<PrivatePostgres> Server = new(() =>
    {
        var server = new PrivatePostgres(
            Directory.CreateTempSubdirectory("courier-postgres-").FullName, "fsync=off", "full_page_writes=off");
        Environment.SetEnvironmentVariable("PGPASSWORD", server.Password);
        return server;
    });

    private static readonly Lazy<TrialServer> Trials = new(() => new TrialServer($"{Server.Value.Address}/postgres"));

    public static PrivatePostgres Postgres => Server.Value;

    /// <summary>Where the databases of a trial are to be.</summary>
    public static TrialServer? Of(string engine) => engine == "postgres" ? Trials.Value : null;

    public async ValueTask DisposeAsync()
    {
        if (Trials.IsValueCreated) await Trials.Value.DisposeAsync();
        if (Server.IsValueCreated) Server.Value.Dispose();
    }
}
