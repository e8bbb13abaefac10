using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Sqlite;

namespace GentleCourier.Testing;

/// <summary>A store in a database that the test has already; the broker, which nobody uses, is a file.</summary>
internal sealed class GivenPlace : Places
{
    private readonly string store;
    private readonly FilePlaces files;

    /// <exception cref="ArgumentException">It is no address of a database.</exception>
    public GivenPlace(string store)
    {
        if (!EngineAddress.TryParse(store, out var address) || !Engines.Any(e => e.Scheme == address.Scheme))
            throw new ArgumentException(
                "TrialOptions.Database is no address of a database: say sqlite:FILE or postgres://USER@HOST/DATABASE",
                nameof(store));
        (this.store, files) = (store, new FilePlaces());
    }

    public override string Broker => files.Broker;

    public override IReadOnlyList<IEngine> Engines { get; } = [new SqliteEngine(), new PostgresEngine()];

    public override string StoreOf(string service) => store;

    public override ValueTask DisposeAsync() => files.DisposeAsync();
}
