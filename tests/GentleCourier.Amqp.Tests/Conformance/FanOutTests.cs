using GentleCourier.ByHand;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Options;

namespace GentleCourier.Amqp.Tests.Conformance;

/// <summary>Events go to the addresses that their publisher says.</summary>
public sealed class FanOutTests
{
    private const int Many = 120;

    private static int made;

    private static Dictionary<string, string?> To(params string[] places) =>
        new() { ["Courier:Routes:test.tap"] = string.Join(", ", places) };

    [Theory]
    [InlineData(0)]
    [InlineData(1)]
    [InlineData(40)]
    public async Task An_address_that_fails_delays_no_other_and_gets_all_in_order_once_it_is_there(int keys)
    {
        await using var crossing = new Crossing(new Quay());
        var number = Interlocked.Increment(ref made);
        var (there, late) = ($"there-{number}", $"late-{number}");
        SharedBroker.One.Create(there);
        var settings = To(there, late);
        settings["Courier:Broker"] = $"{SharedBroker.One.Address}/?queue=/amq/queue/{{queue}}";
        var harbour = await crossing.StartAsync("harbour", settings: settings);
        for (var i = 0; i < Many; i += 30)
            await harbour.PublishAsync(
                [.. Enumerable.Range(i, 30).Select(n => EventDraft.Of(new Tap(n), new() { PartitionKey = KeyOf(n) }))]);

        // There each comes once, and the rest is held for the other alone.
        await Crossing.UntilAsync(
            async () => await harbour.Store().ReadOutboxFiguresAsync() is { Waiting: Many, Held: Many, Refused: 0 }
                && SharedBroker.One.Depth(there) == Many,
            "one has them all");
        var held = await harbour.Store().Held.ReadHeldAsync(Many);
        Assert.All(held, h => Assert.Equal(late, h.Address));
        Assert.Contains("amqp:not-found", held[0].LastError, StringComparison.Ordinal);
        // It is tried with the oldest, however many wait; of a key all others follow their first.
        Assert.Equal(keys == 0 ? Many : keys, held.Count(h => h.Attempts > 0));
        Assert.InRange(held.Count(h => h.Attempts > 1), 0, 1);

        SharedBroker.One.Create(late);
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Waiting == 0, "nothing is held any more");
        Assert.Equal((Many, Many), (SharedBroker.One.Depth(there), SharedBroker.One.Depth(late)));
        var came = await Quay.ReadAsync($"/amq/queue/{late}", Many);
        Assert.Equal(Enumerable.Range(0, Many), came.Order());
        if (keys > 0) Assert.All(came.GroupBy(KeyOf), g => Assert.Equal(g.Order(), g));

        string? KeyOf(int n) => keys == 0 ? null : $"{n % keys}-Old-Light";
    }

    [Fact]
    public async Task A_type_without_a_route_is_held_with_the_setting_that_it_lacks_and_leaves_once_there_is_one()
    {
        var quay = new Quay();
        await using var crossing = new Crossing(quay);
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(EventDraft.OfJson("test.unheard", "1"u8.ToArray()), EventDraft.Of(new Tap(1)));
        await Crossing.UntilAsync(
            async () => quay.Ask("taps").Ready == 1
                && (await harbour.Store().ReadOutboxFiguresAsync()).Held == 1, "the other is relayed");
        var held = Assert.Single(await harbour.Store().Held.ReadHeldAsync(9));
        Assert.Equal((null, "no queue is routed for type 'test.unheard'; set Courier:Routes:test.unheard to the queues "
            + $"that get it, since {harbour.Services.GetRequiredService<IBroker>().DisplayName} does not know"),
            (held.Address, held.LastError));
        await harbour.StopAsync();
        var again = await crossing.StartAsync(
            "harbour", settings: new() { ["Courier:Routes:test.unheard"] = "taps,charges" });
        await Crossing.UntilAsync(
            async () => (await again.Store().ReadOutboxFiguresAsync()).Waiting == 0, "it is relayed");
        Assert.Equal((2, 1), (quay.Ask("taps").Ready, quay.Ask("charges").Ready));
    }

    [Fact]
    public async Task What_is_too_large_is_refused_for_good_and_delays_nobody()
    {
        var quay = new Quay();
        await using var crossing = new Crossing(quay);
        var harbour = crossing.Build("harbour", settings: new() { ["Courier:MaxEventBytes"] = "4194304" });
        await harbour.Store().PrepareAsync(create: true);
        await using (var connection = await harbour.Store().OpenConnectionAsync())
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            await harbour.Store().AddAsync(
                transaction, [new EncodedEvent("large", "test.tap", null, new byte[Budget.LargestEvent + 1])]);
            await transaction.CommitAsync();
        }
        await harbour.StartAsync();
        await harbour.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(
            async () => quay.Ask("taps").Ready == 1
                && await harbour.Store().ReadOutboxFiguresAsync() is { Waiting: 0, Refused: 1 },
            "the other is relayed");
        Assert.Contains("takes 4,194,304 at the most", (await harbour.Store().Held.ReadHeldAsync(1))[0].LastError,
            StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("", "is routed to no queue")]
    [InlineData("taps, Not a queue", "is routed to 'Not a queue', which is no queue's name")]
    public async Task Routes_that_lead_nowhere_fail_the_start_and_are_named(string queues, string problem)
    {
        await using var crossing = new Crossing(new Quay());
        var error = await Assert.ThrowsAsync<OptionsValidationException>(
            () => crossing.StartAsync("harbour", settings: To(queues)));
        Assert.Contains($"Courier:Routes:test.tap: type 'test.tap' {problem}", error.Message, StringComparison.Ordinal);
    }
}
