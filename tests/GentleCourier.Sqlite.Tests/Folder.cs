using GentleCourier.Conformance;
using GentleCourier.Engines;

namespace GentleCourier.Sqlite.Tests;

/// <summary>Files in a temporary folder.</summary>
public sealed class Folder : Place
{
    public string Path { get; } = Directory.CreateTempSubdirectory("courier-test-").FullName;

    internal override IEngine Engine { get; } = new SqliteEngine();

    public override string Broker => $"sqlite:{Path}/broker.db";

    public override string Store(string service) => $"sqlite:{Path}/{service}.db";

    public override string RecordOf(string part) => $"courier_schema SET {{0}} WHERE part = '{part}'";

    public override string LockBroker => "UPDATE courier_topology SET version = version";

    public override ValueTask DisposeAsync()
    {
        Directory.Delete(Path, recursive: true);
        return ValueTask.CompletedTask;
    }
}
