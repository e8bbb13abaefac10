using GentleCourier.Engines;

namespace GentleCourier.Conformance;

/// <summary>Processes whose clocks are hours apart, or are set while they work.</summary>
public abstract class ClockScenarios<TPlace> where TPlace : Place, new()
{
    private const int Count = 40;

    /// <summary>
    /// One of two receivers is killed with marks in hand; the other has them all within the lease, whatever it takes
    /// the time to be.
    /// </summary>
    [Theory]
    [InlineData("+1h", null, null, null)]
    [InlineData(null, "+1h", "-1h", null)]
    [InlineData("-1h", "-1h", "+1h", "-1h")]
    public async Task With_clocks_that_are_hours_apart_nothing_waits_for_them_and_the_ledger_balances(
        string? publisher, string? relay, string? killed, string? receiver)
    {
        await using var crossing = new Crossing(new TPlace());
        using var publishing = Rig.WithClock(publisher, crossing, "publish", "harbour", $"Rig:Count={Count}");
        using var relaying = Rig.WithClock(relay, crossing, "relay", "harbour");
        using var dying = Rig.WithClock(
            killed, crossing, "receive", "fares", "Rig:Fault=" + FaultPoint.HandledNotCommitted);
        await Crossing.UntilAsync(
            () => Task.FromResult(dying.HasEnded), "the first receiver is killed", publishing, relaying, dying);
        Assert.True(dying.WasKilled, $"{dying}");
        using var receiving = Rig.WithClock(receiver, crossing, "receive", "fares");
        var store = crossing.SharedStore("fares");
        await Crossing.UntilAsync(async () => await store.CountAsync("mark") >= Count, "all marks are written down",
            publishing, relaying, receiving);
        Assert.Equal(0, await publishing.EndsAsync());
        await Crossing.UntilAsync(
            async () => (await crossing.SharedStore("harbour").ReadOutboxFiguresAsync()).Waiting == 0
                && (await crossing.FiguresAsync("marks")).Waiting == 0, "all is settled", relaying, receiving);
        var ledger = Ledger.Balance(
            Enumerable.Range(0, Count).Select(i => $"{i}"),
            (await Crossing.NumbersAsync(store, "SELECT number FROM mark")).Select(n => $"{n}"), [],
            (await crossing.DeadLetters.ReadAllAsync().ToListAsync()).Select(l => l.Id), 0);
        Assert.True(ledger.Balances, string.Join(", ", ledger.Missing.Concat(ledger.Unexpected)));
        Assert.Equal(Count, ledger.Handled);
    }
}
