using Dapper;
using FerryLine.Contracts;
using FerryLine.Fares;

namespace FerryLine.Unit.Tests;

/// <summary>A receiver that goes by the event's time: the accounts of the day that it names are closed.</summary>
public sealed class CloseAccountsTests
{
    private static async Task MakeTablesAsync(IServiceProvider services, CancellationToken cancel)
    {
        await using var connection = await services.Store().OpenConnectionAsync(cancel);
        await connection.ExecuteAsync("""
            CREATE TABLE charge (event_id TEXT NOT NULL, card TEXT NOT NULL, cents INTEGER NOT NULL);
            CREATE TABLE closing (event_id TEXT NOT NULL, closed_at TEXT NOT NULL, cents INTEGER);
            INSERT INTO charge VALUES ('longsand-1/1', '4711', 340), ('longsand-1/2', '4712', 220);
            """);
    }

    [Fact]
    public async Task The_takings_are_written_down_once_as_of_the_time_of_the_event()
    {
        await using var store = await TrialStore.CreateAsync(prepare: MakeTablesAsync);
        var eleven = new DateTimeOffset(ServiceDay.Today, new TimeOnly(23, 0), TimeSpan.Zero);
        var about = new TrialDelivery { Event = new EventOptions { Id = "close-accounts@today", Time = eleven } };
        await store.HandleByAsync(new CloseAccounts(), new AccountsDue(), about);
        var again = await store.HandleByAsync(new CloseAccounts(), new AccountsDue(), about with { Attempt = 2 });

        Assert.Equal(HandledAs.HandledBefore, again.Outcome);
        await using var connection = await store.Store.OpenConnectionAsync();
        var (at, cents) = await connection.QuerySingleAsync<(string, int)>("SELECT closed_at, cents FROM closing");
        Assert.Equal(560, cents);
        Assert.StartsWith($"{ServiceDay.Today:yyyy-MM-dd} 23:00", at, StringComparison.Ordinal);
    }
}
