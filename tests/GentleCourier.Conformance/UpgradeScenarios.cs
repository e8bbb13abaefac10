using Microsoft.Extensions.Hosting;

namespace GentleCourier.Conformance;

/// <summary>Old and new releases of the library, side by side on the same tables.</summary>
public abstract class UpgradeScenarios<TPlace> where TPlace : Place, new()
{
    private const string NewerAdditive = "version = version + 1";
    private const string NewerBreaking = "version = version + 2, oldest = version + 2, release = '7.0.0'";

    /// <summary>A rolling deployment: the new release upgrades; an old instance works on, and restarts.</summary>
    [Fact]
    public async Task An_old_instance_works_and_restarts_beside_a_newer_schema_that_only_adds()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var old = await crossing.StartAsync("harbour");
        await old.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(async () => await crossing.FiguresAsync("taps") is { Ready: 1 }, "1 is relayed");

        await using (var store = await old.Store().OpenConnectionAsync())
        {
            await store.ExecuteAsync(
                $"ALTER TABLE {old.Store().OutboxTable} ADD COLUMN urgency integer NOT NULL DEFAULT 3");
            await crossing.RecordAsync("store", store, NewerAdditive);
        }
        await using (var broker = await crossing.OpenBrokerAsync())
            await crossing.RecordAsync("broker", broker, NewerAdditive);
        await old.PublishAsync(new Tap(2));
        await Crossing.UntilAsync(async () => await crossing.FiguresAsync("taps") is { Ready: 2 }, "2 is relayed");

        await old.StopAsync();
        var restarted = await crossing.StartAsync("harbour");
        await restarted.PublishAsync(new Tap(3));
        await Crossing.UntilAsync(async () => await crossing.FiguresAsync("taps") is { Ready: 3 }, "3 is relayed");
        await crossing.RouteAsync(("test.tap", "taps"));
        await crossing.Store("harbour").PrepareAsync(create: false);
    }

    [Fact]
    public async Task Tables_that_have_changed_too_much_are_refused_and_the_error_names_the_release_to_take()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        await crossing.SharedStore("harbour").PrepareAsync(create: true);
        await using (var store = await crossing.SharedStore("harbour").OpenConnectionAsync())
            await crossing.RecordAsync("store", store, NewerBreaking);
        await using (var broker = await crossing.OpenBrokerAsync())
            await crossing.RecordAsync("broker", broker, NewerBreaking);

        var start = await Assert.ThrowsAsync<CourierException>(() => crossing.StartAsync("harbour"));
        Assert.Matches("the store in .* has version .*made by a newer .*takes 7.0.0 or later; this is", start.Message);
        var route = await Assert.ThrowsAsync<CourierException>(() => crossing.RouteAsync(("test.tap", "taps")));
        Assert.Matches("the broker in .* has version .*made by a newer .*takes 7.0.0 or later", route.Message);
    }

    /// <summary>An older schema is upgraded by whoever may, and once by however many start together.</summary>
    [Fact]
    public async Task What_is_missing_is_said_where_it_may_not_be_made()
    {
        await using var crossing = new Crossing(new TPlace());
        var problem = await Assert.ThrowsAsync<CourierException>(() => crossing.StartAsync(
            "harbour", settings: new() { ["Courier:CreateMissing"] = "false" }));
        Assert.Contains("courier schema apply", problem.Message, StringComparison.Ordinal);
        await Task.WhenAll(Enumerable.Range(0, 4).Select(_ => crossing.Store("fares").PrepareAsync(create: true)));
        await crossing.Store("fares").PrepareAsync(create: false);
    }

    /// <summary>A store and a broker may be in one database, and in one schema of it.</summary>
    [Fact]
    public async Task No_two_tables_of_an_engine_have_one_name()
    {
        await using var crossing = new Crossing(new TPlace());
        var names = (crossing.Engine.StoreSchema + "\n" + crossing.Engine.BrokerSchema).Split('\n')
            .Select(line => line.Trim().Split(' '))
            .Where(words => words is ["CREATE", "TABLE" or "INDEX", not "IF", ..])
            .Select(words => words[2].Split('.')[^1]).ToList();
        Assert.InRange(names.Count, 15, 100);
        Assert.Equal(names.Distinct(), names);
    }
}
