using static GentleCourier.Watching.Findings;

namespace GentleCourier.Watching;

/// <summary>Findings of a store.</summary>
internal static class StoreFindings
{
    // A transaction open for longer keeps more deleted rows than one would like.
    private static readonly TimeSpan LongSnapshot = TimeSpan.FromMinutes(10);
    // Well beyond the longest rest between two looks.
    private static readonly TimeSpan LateAfter = TimeSpan.FromSeconds(20);
    // The server clears them away at a few thousand.
    private const int ManyDeadRows = 200_000;

    public static IEnumerable<Finding> Of(string store, OutboxFigures outbox) =>
        [.. ByHandFindings.OfRelay(store, outbox), .. Relay(store, outbox), .. Clock(store, outbox.Clock),
            .. Late(store, outbox), .. Stuck(store, outbox), .. Leftovers(store, outbox)];

    public static IEnumerable<Finding> OfInbox(string store, OtherDataFigures? other)
    {
        if (other is null) yield break;
        var many = other.Events >= OtherDataFigures.MostEvents ? "at least " : "";
        yield return new Finding("other-data", true,
            $"{many}{HowMany(other.Events)} came to {store} in the last day with other data than what was handled "
            + $"under the same source and id; the last to queue '{other.Queue}', {other.Source} {other.Id}: handled "
            + $"{other.Handled}, came {other.Other}",
            "see whether the publisher gives two events one id; what comes so is absorbed, or set aside with "
            + $"Courier:Receivers:{other.Queue}:OnOtherData=SetAside", other.Age);
    }

    private static IEnumerable<Finding> Relay(string store, OutboxFigures outbox)
    {
        if (outbox is { Waiting: > 0, Relay: null })
            yield return new Finding("outbox-unrelayed", true,
                (outbox is { Waiting: 1, Precision: Precision.Exact } ? "1 event waits"
                    : $"{Count(outbox.Waiting, outbox.Precision)} events wait")
                + $" in the outbox of {store}, and no relay leads",
                "start a service with this store, and Courier:Relay:Enabled on", outbox.OldestAge);
        if (outbox.LastError is { } error)
            yield return new Finding("outbox-stopped", true,
                $"the relay of {store} fails: {error}", "mend what it says; the relay goes on by itself",
                outbox.OldestAge);
        if (outbox.FormerBrokers > 0)
            yield return new Finding("broker-moved", true,
                $"{store} publishes to another broker than before, at another place: what has not been handled at the "
                + "former one stays there",
                $"see that it is empty; then: courier outbox accept-broker --store {store}");
    }

    private static IEnumerable<Finding> Clock(string store, ClockFigures? clock)
    {
        if (clock is { DoubtedFor: null, Apart.Count: 0 } or null) yield break;
        var said = clock.Apart is [var first, ..]
            ? $"the clock of the relay {first.Relay} {Ahead(first.Ahead)} that of {store}"
            : $"the clocks of {store} differ";
        if (clock.Apart.Count > 1) said += $", and {clock.Apart.Count - 1} more differ";
        yield return clock.DoubtedFor is not { } doubted
            ? new Finding("clocks-apart", true, said,
                $"set that clock right; where it is the other that is wrong: courier outbox set-clock --store {store}")
            : new Finding("clock-in-doubt", true,
                $"{said}, and none has a majority: schedules, and events for a time, wait for {For(doubted)}",
                "set the clock that is wrong right, or say what time it is: courier outbox set-clock --store "
                + $"{store}", doubted);
    }

    private static IEnumerable<Finding> Late(string store, OutboxFigures outbox)
    {
        if (outbox.NextDueIn < -LateAfter)
            yield return new Finding("due-late", true,
                $"what is due in {store} does not leave: the first has been late for {For(-outbox.NextDueIn.Value)}",
                outbox.Relay is null ? "start a service with this store, and Courier:Relay:Enabled on"
                    : $"see the log of the relay, {outbox.Relay}, or end the transaction that has it locked",
                -outbox.NextDueIn.Value);
    }

    private static IEnumerable<Finding> Stuck(string store, OutboxFigures outbox)
    {
        if (outbox.Held > 0)
            yield return new Finding("outbox-held", true,
                $"the broker does not take {HowMany(outbox.Held)} of {store} yet",
                $"see why: courier outbox --store {store}; a type without a route waits until a queue is routed to it");
        if (outbox.Refused > 0)
            yield return new Finding("outbox-refused", false,
                $"the broker has refused {HowMany(outbox.Refused)} of {store} for good",
                $"see why: courier outbox --store {store}; repair and try them again, or discard them");
    }

    private static IEnumerable<Finding> Leftovers(string store, OutboxFigures outbox)
    {
        if (outbox.OldestSnapshot >= LongSnapshot)
            yield return new Finding("snapshot-held", true,
                $"a transaction in the server of {store} has been open for {For(outbox.OldestSnapshot.Value)} "
                + $"({outbox.SnapshotHolder}): what is deleted stays as long",
                "end it, or have its owner do so", outbox.OldestSnapshot);
        if (outbox.DeadRows >= ManyDeadRows)
            yield return new Finding("dead-rows", true,
                Say($"about {outbox.DeadRows:N0} deleted rows lie in the outbox of {store}: its server does not ")
                + "clear them away",
                outbox.OldestSnapshot is { } open
                    ? $"end the transaction that has been open for {For(open)}: {outbox.SnapshotHolder}"
                    : "see that autovacuum runs there");
    }

    /// <summary>A number, with how far it is exact.</summary>
    internal static string Count(long number, Precision precision) => precision switch
    {
        Precision.AtLeast => Say($"at least {number:N0}"),
        Precision.AtMost => Say($"at most {number:N0}"),
        _ => Say($"{number:N0}"),
    };
}
