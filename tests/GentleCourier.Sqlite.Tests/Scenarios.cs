using GentleCourier.Conformance;
using GentleCourier.Engines;

namespace GentleCourier.Sqlite.Tests;

/// <summary>Files in a temporary folder.</summary>
public sealed class Folder : Place
{
    public string Path { get; } = Directory.CreateTempSubdirectory("courier-test-").FullName;

    public override IEngine Engine { get; } = new SqliteEngine();

    public override string Broker => $"sqlite:{Path}/broker.db";

    public override string Store(string service) => $"sqlite:{Path}/{service}.db";

    public override ValueTask DisposeAsync()
    {
        Directory.Delete(Path, recursive: true);
        return ValueTask.CompletedTask;
    }
}

public sealed class BatchTests : BatchScenarios<Folder>;

public sealed class BrokerTests : BrokerScenarios<Folder>;

public sealed class CompetingTests : CompetingScenarios<Folder>;

public sealed class CrashTests : CrashScenarios<Folder>;

public sealed class OutboxTests : OutboxScenarios<Folder>;

public sealed class OutcomeTests : OutcomeScenarios<Folder>;

public sealed class ReceiverTests : ReceiverScenarios<Folder>;

public sealed class RelayTests : RelayScenarios<Folder>;

internal static class CrossingFiles
{
    public static string BrokerFile(this Crossing crossing) => crossing.BrokerAddress["sqlite:".Length..];

    public static string StoreFile(this Crossing crossing, string service) => crossing.StoreAddress(service)["sqlite:".Length..];
}
