using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Postgres.Tests;

/// <summary>Handlers that the server does not let commit, since others are in their way.</summary>
public sealed class ConflictTests
{
    private const int Count = 40;

    /// <summary>
    /// Moves a cent from one row to another for each tap, half of them in the one direction and half in the other.
    /// </summary>
    private static async Task MoveAsync(Delivery<Tap> delivery, CancellationToken cancel)
    {
        var transaction = await delivery.BeginAsync(cancel);
        int[] rows = delivery.Data.Number % 2 == 0 ? [1, 2] : [2, 1];
        await transaction.Connection!.ExecuteAsync(
            "UPDATE purse SET cents = cents - 1 WHERE id = @id", ("@id", rows[0]));
        await Task.Delay(5, cancel);
        await transaction.Connection!.ExecuteAsync(
            "UPDATE purse SET cents = cents + 1 WHERE id = @id", ("@id", rows[1]));
        await transaction.Connection!.ExecuteAsync(
            "INSERT INTO moved VALUES (@number)", ("@number", delivery.Data.Number));
    }

    [Theory]
    [InlineData("read-committed", "deadlock detected")]
    [InlineData("serializable", "could not serialize access")]
    public async Task Deadlocks_and_serialisation_failures_are_tried_again_until_each_effect_is_there_once(
        string isolation, string problem)
    {
        await using var crossing = new Crossing(new Databases());
        await crossing.RouteAsync(("test.tap", "taps"));
        var store = crossing.SharedStore("fares");
        await store.PrepareAsync(create: true);
        await using (var connection = await store.OpenConnectionAsync())
            await connection.ExecuteAsync(
                "CREATE TABLE purse (id INTEGER PRIMARY KEY, cents INTEGER); INSERT INTO purse VALUES (1, 0), (2, 0); "
                + "CREATE TABLE moved (number INTEGER)");

        var reports = new Reports();
        // Every event comes twice, and its copies are handled at the same time as others.
        await crossing.Broker().PublishAsync(
            [.. Enumerable.Range(0, Count).Concat(Enumerable.Range(0, Count)).Select(i => Crossing.TapEvent(i))]);
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q =>
            {
                (q.Options.Parallel, q.Options.MaxAttempts, q.Options.RetriesAtOnce) = (4, 1000, 1000);
                q.Handle<Tap, TapReceiver>();
            }),
            new()
            {
                ["Courier:Store"] =
                    $"{crossing.StoreAddress("fares")}?isolation={isolation}&options=-c deadlock_timeout=20",
            },
            s => s.AddSingleton(new Log { OnTap = MoveAsync })
                .AddSingleton<Microsoft.Extensions.Logging.ILoggerFactory>(reports));
        await crossing.SettledAsync();

        Assert.Equal(
            Enumerable.Range(0, Count), await Crossing.NumbersAsync(store, "SELECT number FROM moved ORDER BY 1"));
        Assert.Equal([0, 0], await Crossing.NumbersAsync(store, "SELECT cents FROM purse"));
        Assert.Equal(Count, (await store.Inbox.ReadAsync("taps")).Count);
        Assert.Contains(reports.Errors, e => e.ToString().Contains(problem, StringComparison.Ordinal));
    }

    [Fact]
    public async Task A_handler_that_hides_a_failed_statement_is_not_taken_for_one_that_succeeded()
    {
        await using var crossing = new Crossing(new Databases());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                var transaction = await delivery.BeginAsync(cancel);
                if (delivery.Attempt > 1) return;
                try
                {
                    await transaction.Connection!.ExecuteAsync("SELECT 1 / 0");
                }
                catch (Npgsql.PostgresException)
                {
                    // The server has given the transaction up, and would answer a commit by rolling back.
                }
            },
        };
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        var fares = await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        await crossing.SettledAsync();
        Assert.Equal([1, 2], log.Taps.Select(t => t.Attempt));
        Assert.Single(await fares.Store().Inbox.ReadAsync("taps"));
    }

    [Fact]
    public async Task What_a_receiver_adds_is_undone_with_its_savepoint_and_kept_with_its_transaction()
    {
        await using var crossing = new Crossing(new Databases());
        var store = crossing.Store("fares");
        await store.PrepareAsync(create: true);
        await using (var handling = await store.BeginHandlingAsync("taps", [new("/t", "1")]))
        {
            await store.AddAsync(handling!.Transaction, [Crossing.TapEvent(1)]);
            await handling.Transaction.SaveAsync("here");
            await store.AddAsync(handling.Transaction, [Crossing.TapEvent(2)]);
            await handling.Transaction.RollbackAsync("here");
            await handling.CommitAsync([]);
        }
        Assert.Equal("1", Assert.Single((await store.ReadOutboxAsync(10)).Rows).Event.Id);

        // A receiver must not commit by itself. If it does it is told so, and what it has committed is not without its
        // events.
        await using (var handling = await store.BeginHandlingAsync("taps", [new("/t", "2")]))
        {
            await store.AddAsync(handling!.Transaction, [Crossing.TapEvent(3)]);
            await handling.Transaction.CommitAsync();
            await Assert.ThrowsAsync<CourierException>(() => handling.CommitAsync([]));
        }
        Assert.Equal(["1", "3"], (await store.ReadOutboxAsync(10)).Rows.Select(r => r.Event.Id));
    }
}
