using GentleCourier.Conformance;

namespace GentleCourier.Amqp.Tests.Conformance;

public sealed class BatchTests : BatchScenarios<Quay>;

public sealed class CompetingTests : CompetingScenarios<Quay>;

public sealed class CrashTests : CrashScenarios<Quay>;

public sealed class FailureTests : FailureScenarios<Quay>;

public sealed class OutcomeTests : OutcomeScenarios<Quay>;

public sealed class ReceiverTests : ReceiverScenarios<Quay>;

public sealed class StandstillTests : StandstillScenarios<Quay>;

public sealed class TextTests : TextScenarios<Quay>;
