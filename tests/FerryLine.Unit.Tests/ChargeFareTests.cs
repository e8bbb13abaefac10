using Dapper;
using FerryLine.Contracts;
using FerryLine.Fares;

namespace FerryLine.Unit.Tests;

/// <summary>The receiver of fares by itself: in a real transaction, and nothing else runs.</summary>
public sealed class ChargeFareTests : IAsyncLifetime
{
    private static readonly ChargeFare Charge = new(PriceList.Read(Path.Combine(AppContext.BaseDirectory, "Data")));

    private TrialStore store = null!;

    public async ValueTask InitializeAsync() => store = await TrialStore.CreateAsync(prepare: MakeTablesAsync);

    private static async Task MakeTablesAsync(IServiceProvider services, CancellationToken cancel)
    {
        await using var connection = await services.Store().OpenConnectionAsync(cancel);
        await connection.ExecuteAsync("""
            CREATE TABLE charge (event_id TEXT NOT NULL, card TEXT NOT NULL, cents INTEGER NOT NULL);
            CREATE TABLE card (number TEXT PRIMARY KEY);
            """);
    }

    public ValueTask DisposeAsync() => store.DisposeAsync();

    private async Task<int> ChargedAsync(string card)
    {
        await using var connection = await store.Store.OpenConnectionAsync();
        return await connection.ExecuteScalarAsync<int>(
            "SELECT coalesce(sum(cents), 0) FROM charge WHERE card = @card", new { card });
    }

    private static PassengerBoarded Tap(string pier, int hour = 8, int daysLater = 0) => new(
        pier, "4711", "0810-Old-Light",
        new DateTimeOffset(ServiceDay.Today.AddDays(daysLater), new TimeOnly(hour, 0), TimeSpan.Zero));

    [Fact]
    public async Task A_tap_costs_what_its_pier_does()
    {
        var result = await store.HandleByAsync(Charge, Tap("Longsand"));
        Assert.Equal(HandledAs.Handled, result.Outcome);
        Assert.Equal(340, await ChargedAsync("4711"));
    }

    [Fact]
    public async Task The_same_tap_a_second_time_costs_nothing()
    {
        var tap = new TrialDelivery { Event = new EventOptions { Id = "longsand-1/7" } };
        await store.HandleByAsync(Charge, Tap("Longsand"), tap);
        var again = await store.HandleByAsync(Charge, Tap("Longsand"), tap with { Attempt = 2 });
        Assert.Equal(HandledAs.HandledBefore, again.Outcome);
        Assert.Equal(340, await ChargedAsync("4711"));
    }

    [Fact]
    public async Task No_card_pays_more_than_the_cap_a_day()
    {
        foreach (var hour in Enumerable.Range(8, 5)) await store.HandleByAsync(Charge, Tap("Old Light", hour));
        Assert.Equal(PriceList.DailyCapCents, await ChargedAsync("4711"));
    }

    [Fact]
    public async Task A_pier_that_does_not_exist_is_set_aside_at_once()
    {
        var result = await store.HandleByAsync(Charge, Tap("Atlantis"));
        Assert.Equal(
            (HandledAs.SetAside, "there is no pier 'Atlantis', so nobody can have boarded there"),
            (result.Outcome, result.Reason));
    }

    [Fact]
    public async Task A_tap_of_tomorrow_is_tried_again_and_set_aside_in_the_end()
    {
        Task<AttemptResult> TryAsync(int attempt) => store.HandleByAsync(
            Charge, Tap("Longsand", daysLater: 1), new TrialDelivery { Attempt = attempt },
            queue => queue.Options.MaxAttempts = 5);
        Assert.Equal(HandledAs.ComesAgain, (await TryAsync(1)).Outcome);
        Assert.Equal(HandledAs.ComesAgain, (await TryAsync(4)).Outcome);
        Assert.Equal(HandledAs.SetAside, (await TryAsync(5)).Outcome);
        Assert.Equal(0, await ChargedAsync("4711"));
    }
}
