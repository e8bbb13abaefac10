using GentleCourier.Conformance;

namespace GentleCourier.Sqlite.Tests;

public sealed class BatchTests : BatchScenarios<Folder>;

public sealed class BrokerTests : BrokerScenarios<Folder>;

public sealed class ClockTests : ClockScenarios<Folder>;

public sealed class StampTests : StampScenarios<Folder>
{
    protected override Task StunAsync(Rig rig) => rig.KillAsync();
}

public sealed class CompetingTests : CompetingScenarios<Folder>;

public sealed class CrashTests : KillScenarios<Folder>;

public sealed class EventTests : EventScenarios<Folder>;

public sealed class FailureTests : FailureScenarios<Folder>;

public sealed class HousekeepingTests : HousekeepingScenarios<Folder>;

public sealed class InboxTests : InboxScenarios<Folder>;

public sealed class KeyOrderTests : KeyOrderScenarios<Folder>;

public sealed class LaterTests : LaterScenarios<Folder>;

public sealed class OutboxTests : OutboxScenarios<Folder>;

public sealed class OrderTests : OrderScenarios<Folder>;

public sealed class OutcomeTests : OutcomeScenarios<Folder>;

public sealed class OwnBrokerTests : OwnBrokerScenarios<Folder>;

public sealed class ReceiverTests : ReceiverScenarios<Folder>;

public sealed class RelayRunTests : RelayRunScenarios<Folder>;

public sealed class HeldTests : HeldScenarios<Folder>;

public sealed class RelayTests : RelayScenarios<Folder>;

public sealed class ScheduleTests : ScheduleScenarios<Folder>;

public sealed class StandstillTests : StandstillScenarios<Folder>;

public sealed class StartTests : StartScenarios<Folder>;

public sealed class TakeOverTests : TakeOverScenarios<Folder>;

public sealed class TelemetryTests : TelemetryScenarios<Folder>;

public sealed class TextTests : TextScenarios<Folder>;

public sealed class WatchingTests : WatchingScenarios<Folder>;

public sealed class WayBackTests : WayBackScenarios<Folder>;

public sealed class UpgradeTests : UpgradeScenarios<Folder>;

internal static class CrossingFiles
{
    public static string BrokerFile(this Crossing crossing) => crossing.BrokerAddress["sqlite:".Length..];

    public static string StoreFile(this Crossing crossing, string service) =>
        crossing.StoreAddress(service)["sqlite:".Length..];
}
