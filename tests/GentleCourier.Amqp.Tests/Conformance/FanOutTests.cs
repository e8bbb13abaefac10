using GentleCourier.ByHand;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Options;

namespace GentleCourier.Amqp.Tests.Conformance;

/// <summary>Events go to the addresses that their publisher says.</summary>
public sealed class FanOutTests
{
    private static int made;

    private static Dictionary<string, string?> To(params string[] places) =>
        new() { ["Courier:Routes:test.tap"] = string.Join(", ", places) };

    [Theory]
    [InlineData(null)]
    [InlineData("0614-Old-Light")]
    public async Task An_address_that_fails_delays_no_other_and_gets_all_in_order_once_it_is_there(string? key)
    {
        await using var crossing = new Crossing(new Quay());
        var number = Interlocked.Increment(ref made);
        var (there, late) = ($"there-{number}", $"late-{number}");
        SharedBroker.One.Create(there);
        var settings = To(there, late);
        settings["Courier:Broker"] = $"{SharedBroker.One.Address}/?queue=/amq/queue/{{queue}}";
        var harbour = await crossing.StartAsync("harbour", settings: settings);
        for (var i = 0; i < 30; i++)
            await harbour.PublishAsync(EventDraft.Of(new Tap(i), new() { PartitionKey = key }));

        // There each comes once, and the rest is held for the other alone.
        await Crossing.UntilAsync(
            async () => await harbour.Store().ReadOutboxFiguresAsync() is { Waiting: 30, Held: 30, Refused: 0 }
                && SharedBroker.One.Depth(there) == 30,
            "one has them all");
        var held = await harbour.Store().Held.ReadHeldAsync(100);
        Assert.All(held, h => Assert.Equal((late, key), (h.Address, h.PartitionKey)));
        Assert.Contains("amqp:not-found", held[0].LastError, StringComparison.Ordinal);
        if (key is not null) Assert.Single(held, h => h.Attempts > 0);

        SharedBroker.One.Create(late);
        // Those that the relay has tried meanwhile are gone.
        await harbour.Store().Held.TryAgainAsync([.. held.Select(h => new HeldReturn(h))]);
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Waiting == 0, "nothing is held any more");
        Assert.Equal((30, 30), (SharedBroker.One.Depth(there), SharedBroker.One.Depth(late)));
        var came = await Quay.ReadAsync($"/amq/queue/{late}", 30);
        Assert.Equal(Enumerable.Range(0, 30), key is null ? came.Order() : came);
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
