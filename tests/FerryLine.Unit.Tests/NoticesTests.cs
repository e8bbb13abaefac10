using Dapper;
using FerryLine.Contracts;
using FerryLine.Notices;

namespace FerryLine.Unit.Tests;

/// <summary>Receivers that share their last step.</summary>
public sealed class NoticesTests
{
    private static readonly DateTimeOffset TwentyPastSeven =
        new(ServiceDay.Today, new TimeOnly(7, 20), TimeSpan.Zero);

    private static async Task MakeTablesAsync(IServiceProvider services, CancellationToken cancel)
    {
        await using var connection = await services.Store().OpenConnectionAsync(cancel);
        await connection.ExecuteAsync("CREATE TABLE notice (event_id TEXT, sailing TEXT, text TEXT)");
    }

    [Fact]
    public async Task What_a_notice_says_follows_from_the_event_and_nothing_is_pinned_up_twice()
    {
        await using var store = await TrialStore.CreateAsync(prepare: MakeTablesAsync);
        for (var attempt = 1; attempt <= 2; attempt++)
        {
            TrialDelivery About(string id) => new() { Attempt = attempt, Event = new EventOptions { Id = id } };
            await store.HandleByAsync(
                new AnnounceDeparture(), new SailingDeparted("0720-Saltmarsh", TwentyPastSeven), About("1"));
            await store.HandleByAsync(new AnnounceCrowd(), new DeckNearlyFull("0810-Old-Light", 81, 90), About("2"));
            await store.HandleByAsync(
                new AnnounceSailing(), new SailingReminder("0720-Saltmarsh", TwentyPastSeven), About("3"));
        }
        await using var connection = await store.Store.OpenConnectionAsync();
        Assert.Equal(
            [
                "0720-Saltmarsh left at 07:20.",
                "0810-Old-Light has 81 of 90 on board: standing room only.",
                "0720-Saltmarsh leaves in an hour, at 07:20.",
            ],
            await connection.QueryAsync<string>("SELECT text FROM notice ORDER BY event_id"));
    }
}
