using System.Text;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>What a broker does that is another one's companion.</summary>
public abstract class TakeOverScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly Outcome Never = new Outcome.Rejected("no such pier", new Failure("X", "m", "s"));

    private static Outcome.Modified In(int minutes, bool counts = true) =>
        new(TimeSpan.FromMinutes(minutes), "not yet") { Counts = counts };

    private static TakenOver Tap(int number, Outcome? outcome = null, int attempts = 0) =>
        new(Crossing.TapEvent(number).Json, attempts, TimeSpan.FromSeconds(5), outcome);

    private static async Task<(IBroker Broker, FakeTimeProvider Clock)> OpenAsync(Crossing crossing)
    {
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var broker = crossing.AnotherBroker(clock);
        await broker.PrepareAsync(new Topology(["taps"], []), create: true);
        return (broker, clock);
    }

    private static async Task<(long? Ready, long? Scheduled, long? Dead)> FiguresAsync(IBroker broker)
    {
        var figures = (await broker.Reports!.ReadFiguresAsync()).Queues.Single();
        return (figures.Ready, figures.Scheduled, figures.DeadLetters);
    }

    [Fact]
    public async Task An_event_is_taken_over_once_whatever_becomes_of_it()
    {
        await using var crossing = new Crossing(new TPlace());
        var (broker, clock) = await OpenAsync(crossing);
        var port = broker.TakeOver!;
        Assert.Equal([null, null, null], await port.TakeOverAsync("taps", "w", [Tap(1), Tap(2), Tap(1)]));
        Assert.Equal([null, null], await port.TakeOverAsync("taps", "w", [Tap(1), Tap(2, In(1), 1)]));
        Assert.Equal((2, 0, 0), await FiguresAsync(broker));

        // In hand, waiting for its time, and set aside it is still the same one.
        await using var link = await broker.OpenLinkAsync("taps", "pier/7", TimeSpan.FromMinutes(5));
        var taken = await link.ReceiveAsync(5, CancellationToken.None).WaitAsync(Crossing.Limit);
        Assert.Equal([(1, 1), (2, 1)], taken.Select(t => (Crossing.NumberOf(t.Json), t.Attempt!.Value)));
        await port.TakeOverAsync("taps", "w", [Tap(1), Tap(2)]);
        await link.SettledAsync([new(taken[0], In(10)), new(taken[1], Never)]);
        var letter = Assert.Single(await broker.DeadLetters!.ReadAsync("taps", 9));
        Assert.Equal([null, null], await port.TakeOverAsync("taps", "w", [Tap(1), Tap(2)]));
        Assert.Equal([null], await port.TakeOverAsync("taps", "w", [Tap(2, Never, 1)]));
        Assert.Equal((0, 1, 1), await FiguresAsync(broker));

        // Sent back it is at work again, and handled it is gone.
        await broker.DeadLetters!.SendBackAsync([new LetterReturn(letter)]);
        await port.TakeOverAsync("taps", "w", [Tap(2)]);
        clock.Advance(TimeSpan.FromMinutes(11));
        await Crossing.UntilAsync(
            async () =>
            {
                taken = [.. taken.Where(t => t.Attempt is null),
                    .. await link.ReceiveAsync(5, CancellationToken.None).WaitAsync(Crossing.Limit)];
                await link.SettledAsync([.. taken.Select(t => new Settlement(t, Outcome.Accepted))]);
                return await FiguresAsync(broker) == (0, 0, 0);
            },
            "both are handled");
        await port.TakeOverAsync("taps", "w", [Tap(1)]);
        Assert.Equal((1, 0, 0), await FiguresAsync(broker));
    }

    [Fact]
    public async Task Attempts_delays_and_what_was_known_go_on_from_where_they_were()
    {
        await using var crossing = new Crossing(new TPlace());
        var (broker, clock) = await OpenAsync(crossing);
        await broker.TakeOver!.TakeOverAsync(
            "taps", "pier/7", [Tap(1, In(10), 1), Tap(2, In(10, counts: false)), Tap(3, Never, 2)]);
        Assert.Equal((0, 2, 1), await FiguresAsync(broker));
        var letter = Assert.Single(await broker.DeadLetters!.ReadAsync("taps", 9));
        Assert.Equal(("no such pier", "X", 2, "pier/7", 3), (letter.Reason, letter.Failure!.Exception, letter.Attempts,
            letter.Worker, Crossing.NumberOf(letter.Json)));
        Assert.Equal(TimeSpan.FromSeconds(5), letter.SetAside - letter.FirstAttempt);

        clock.Advance(TimeSpan.FromMinutes(11));
        await using var link = await broker.OpenLinkAsync("taps", "pier/8", TimeSpan.FromMinutes(5));
        var taken = await link.ReceiveAsync(5, CancellationToken.None).WaitAsync(Crossing.Limit);
        Assert.Equal([(1, 2), (2, 1)],
            taken.Select(t => (Crossing.NumberOf(t.Json), t.Attempt!.Value)).Order());
        Assert.All(taken, t => Assert.Equal(TimeSpan.FromMinutes(11) + TimeSpan.FromSeconds(5), t.TriedFor));
        await link.SettledAsync([.. taken.Select(t => new Settlement(t, Outcome.Accepted))]);

        // Failed again after it was set aside, it has been sent back from elsewhere: it is at work.
        await broker.TakeOver!.TakeOverAsync("taps", "pier/7", [Tap(3, In(1), 1)]);
        Assert.Equal((0, 1, 1), await FiguresAsync(broker));
        var counts = (await broker.Reports!.ReadFiguresAsync()).Queues.Single().History[^1];
        Assert.Equal((4, 2, 2, 1), (counts.Came, counts.Accepted, counts.Failed, counts.SetAside));
    }

    [Fact]
    public async Task What_cannot_be_read_is_known_by_all_of_it_and_one_key_keeps_nobody_waiting()
    {
        await using var crossing = new Crossing(new TPlace());
        var (broker, _) = await OpenAsync(crossing);
        await broker.PrepareAsync(new Topology(["taps"], []) { InKeyOrder = ["taps"] }, create: true);
        TakenOver[] events = [.. new[] { "Longsand;0417", "Longsand;0418", "Longsand;0417" }.Select(
            text => new TakenOver(Encoding.UTF8.GetBytes(text), 1, null, Never))];
        var letters = await broker.TakeOver!.TakeOverAsync("taps", "w", events);
        Assert.Equal(2, letters.OfType<string>().Distinct().Count());
        await broker.TakeOver!.TakeOverAsync("taps", "w", [Tap(1), Tap(2)]);
        await using var link = await broker.OpenLinkAsync("taps", "w", TimeSpan.FromMinutes(5));
        Assert.Equal(2, (await link.ReceiveAsync(5, CancellationToken.None).WaitAsync(Crossing.Limit)).Count);
    }

    /// <summary>Of looks of several at different moments, some see less than has gone.</summary>
    [Fact]
    public async Task What_comes_elsewhere_is_counted_by_what_goes_and_what_waits()
    {
        await using var crossing = new Crossing(new TPlace());
        var (broker, _) = await OpenAsync(crossing);
        var port = broker.TakeOver!;
        (long Accepted, long? Waiting, long Came)[] looks =
            [(0, 100, 100), (10, 90, 100), (0, 70, 100), (20, 70, 100), (5, null, 105), (0, 80, 115)];
        var accepted = 0L;
        foreach (var (handled, waiting, came) in looks)
        {
            await port.CountAsync("taps", handled, waiting);
            accepted += handled;
            var counts = (await broker.Reports!.ReadFiguresAsync()).Queues.Single().History[^1];
            Assert.Equal((came, accepted), (counts.Came, counts.Accepted));
        }
    }
}
