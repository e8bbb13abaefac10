using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Time.Testing;

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

    /// <summary>Every other event fails once, and is young, whatever the clock says by which it is looked at.</summary>
    [Theory]
    [InlineData("+1h", null)]
    [InlineData(null, "-1h")]
    public async Task How_old_an_event_is_no_worker_and_no_publisher_says(string? receiver, string? publisher)
    {
        await using var crossing = new Crossing(new TPlace());
        using var receiving = Rig.WithClock(
            receiver, crossing, "receive", "fares", "Rig:Fails=true", "Courier:Receivers:marks:MaxAge=00:10:00");
        using var publishing = Rig.WithClock(publisher, crossing, "publish", "harbour", $"Rig:Count={Count}");
        using var relaying = new Rig(crossing, "relay", "harbour");
        Assert.Equal(0, await publishing.EndsAsync());
        await Crossing.UntilAsync(() => Task.FromResult(receiving.HasStarted), "it receives", receiving);
        await Crossing.UntilAsync(
            async () => await crossing.SharedStore("fares").CountAsync("mark") + (await crossing.DeadLetters
                .ReadAllAsync().CountAsync()) >= Count, "all are settled", receiving, relaying);
        Assert.Empty(await crossing.DeadLetters.ReadAllAsync().ToListAsync());
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task What_an_event_has_waited_in_the_outbox_counts_to_its_age(bool inKeyOrder)
    {
        await using var crossing = new Crossing(new TPlace());
        var twoHoursAgo = crossing.Store("harbour", new FakeTimeProvider(DateTimeOffset.UtcNow.AddHours(-2)));
        await twoHoursAgo.PrepareAsync(create: true);
        await using (var connection = await twoHoursAgo.OpenConnectionAsync())
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            await twoHoursAgo.AddAsync(transaction, [Crossing.TapEvent(1, "key")]);
            await transaction.CommitAsync();
        }
        var log = new Log { OnTap = (_, _) => throw new TimeoutException("the till is jammed") };
        await crossing.StartAsync("fares", courier => courier.Receive("taps", queue =>
        {
            queue.Options.MaxAge = TimeSpan.FromHours(1);
            queue.Options.InKeyOrder = inKeyOrder;
            queue.Handle<Tap, TapReceiver>();
        }), services: services => services.AddSingleton(log));
        await crossing.StartAsync("harbour");
        await crossing.SettledAsync(deadLetters: 1);
        Assert.StartsWith(
            "failed attempt 1, and would be older than 01:00:00 at the next",
            (await crossing.DeadLetters.ReadAsync(null, 1))[0].Reason, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task An_event_that_comes_again_is_as_old_as_before_and_what_it_waits_comes_to_that(bool inKeyOrder)
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var broker = crossing.AnotherBroker(clock);
        await broker.PrepareAsync(new Topology(["taps"], [new("test.tap", "taps")])
        {
            InKeyOrder = inKeyOrder ? ["taps"] : [],
        }, create: true);
        var hours = Enumerable.Range(0, 5).Select(i => TimeSpan.FromHours(i)).ToArray();
        await broker.PublishAsync([Crossing.TapEvent(1) with { OutboxWait = hours[2] }, Crossing.TapEvent(2)]);
        clock.Advance(hours[1]);
        await using var link = await broker.OpenLinkAsync("taps", "one", TimeSpan.FromMinutes(1));
        var first = await link.ReceiveAsync(2, CancellationToken.None);
        Assert.Equal([hours[3], hours[1]], first.Select(d => d.Age!.Value));
        await link.SettledAsync([
            new(first[0], new Outcome.Modified(hours[1], "not yet")), new(first[1], Outcome.Released)]);
        clock.Advance(hours[1]);
        var again = await link.ReceiveAsync(2, CancellationToken.None);
        Assert.Equal([hours[2], hours[4]], again.Select(d => d.Age!.Value).Order());
    }
}
