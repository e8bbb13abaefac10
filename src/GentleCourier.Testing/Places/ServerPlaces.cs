using System.Collections.Concurrent;
using GentleCourier.Engines;
using GentleCourier.Postgres;

namespace GentleCourier.Testing;

/// <summary>Databases of one trial on a server.</summary>
internal sealed class ServerPlaces(TrialServer server) : Places
{
    private const string OfBroker = "broker", OfStore = "store-";

    private readonly ConcurrentDictionary<string, Lazy<string>> made = new(StringComparer.Ordinal);

    public override string Broker => AddressOf(OfBroker);

    public override IReadOnlyList<IEngine> Engines { get; } = [new PostgresEngine()];

    public override string StoreOf(string service) => AddressOf(OfStore + service);

    public override async ValueTask DisposeAsync()
    {
        foreach (var database in made.Values)
            if (database.IsValueCreated) await server.DropAsync(database.Value).ConfigureAwait(false);
    }

    /// <summary>Settings are asked for by threads that cannot wait otherwise.</summary>
    private string AddressOf(string part) => server.AddressOf(made.GetOrAdd(part, name => new(
        () => Task.Run(() => server.CreateAsync(name == OfBroker ? null : name[OfStore.Length..]))
            .GetAwaiter().GetResult())).Value);
}
