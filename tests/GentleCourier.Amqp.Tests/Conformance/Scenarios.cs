using GentleCourier.Conformance;

namespace GentleCourier.Amqp.Tests.Conformance;

public sealed class BatchTests : BatchScenarios<Quay>;

public sealed class CompetingTests : CompetingScenarios<Quay>;

public sealed class CrashTests : CrashScenarios<Quay>
{
    /// <summary>Where it matters what broker it is.</summary>
    [Theory]
    [InlineData(FaultPoint.PublishedNotMarked)]
    [InlineData(FaultPoint.HandedOverNotHandled)]
    [InlineData(FaultPoint.ArrivalSettledNotHandled)]
    [InlineData(FaultPoint.HandledNotCommitted)]
    [InlineData(FaultPoint.CommittedNotSettled)]
    [InlineData(FaultPoint.TakenOverNotAccepted)]
    public Task A_kill_between_two_writes_loses_nothing_and_repeats_nothing(string place) => KillAndGoOnAsync(place);
}

public sealed class EventTests : EventScenarios<Quay>;

public sealed class FailureTests : FailureScenarios<Quay>;

public sealed class OrderTests : OrderScenarios<Quay>;

public sealed class OutcomeTests : OutcomeScenarios<Quay>;

public sealed class ReceiverTests : ReceiverScenarios<Quay>;

public sealed class RelayRunTests : RelayRunScenarios<Quay>;

public sealed class StandstillTests : StandstillScenarios<Quay>;

public sealed class TextTests : TextScenarios<Quay>;
