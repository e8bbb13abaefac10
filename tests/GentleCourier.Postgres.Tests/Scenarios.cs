using GentleCourier.Conformance;

namespace GentleCourier.Postgres.Tests;

public sealed class BatchTests : BatchScenarios<Databases>;

public sealed class BrokerTests : BrokerScenarios<Databases>;

public sealed class ClockTests : ClockScenarios<Databases>;

public sealed class StampTests : StampScenarios<Databases>;

public sealed class CompetingTests : CompetingScenarios<Databases>;

public sealed class CrashTests : KillScenarios<Databases>;

public sealed class EventTests : EventScenarios<Databases>;

public sealed class FailureTests : FailureScenarios<Databases>;

public sealed class HousekeepingTests : HousekeepingScenarios<Databases>;

public sealed class InboxTests : InboxScenarios<Databases>;

public sealed class KeyOrderTests : KeyOrderScenarios<Databases>;

public sealed class LaterTests : LaterScenarios<Databases>;

public sealed class OutboxTests : OutboxScenarios<Databases>;

public sealed class OrderTests : OrderScenarios<Databases>;

public sealed class OutcomeTests : OutcomeScenarios<Databases>;

public sealed class OwnBrokerTests : OwnBrokerScenarios<Databases>;

public sealed class ReceiverTests : ReceiverScenarios<Databases>;

public sealed class RelayRunTests : RelayRunScenarios<Databases>;

public sealed class HeldTests : HeldScenarios<Databases>;

public sealed class RelayTests : RelayScenarios<Databases>;

public sealed class ScheduleTests : ScheduleScenarios<Databases>;

public sealed class StandstillTests : StandstillScenarios<Databases>;

public sealed class StartTests : StartScenarios<Databases>;

public sealed class TakeOverTests : TakeOverScenarios<Databases>;

public sealed class TelemetryTests : TelemetryScenarios<Databases>;

public sealed class TextTests : TextScenarios<Databases>;

public sealed class WatchingTests : WatchingScenarios<Databases>;

public sealed class WayBackTests : WayBackScenarios<Databases>;

public sealed class UpgradeTests : UpgradeScenarios<Databases>;
