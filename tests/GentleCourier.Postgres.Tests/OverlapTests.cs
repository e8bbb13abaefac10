using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Postgres.Tests;

/// <summary>Transactions that commit in another order than that of their rows' numbers.</summary>
public sealed class OverlapTests
{
    /// <summary>How many transactions; more of them make it a trial of its own, of minutes.</summary>
    private static int Count => int.Parse(Environment.GetEnvironmentVariable("COURIER_OVERLAPPING") ?? "4000");

    /// <summary>
    /// Its number lies before those that are on their way. What was added after its commit, by its key, must not pass
    /// it.
    /// </summary>
    [Fact]
    public async Task What_lies_behind_a_batch_is_not_read_while_an_event_before_it_was_committed_late()
    {
        await using var crossing = new Crossing(new Databases());
        var store = crossing.SharedStore("harbour");
        await store.PrepareAsync(create: true);
        await using (var late = await store.OpenConnectionAsync())
        {
            await using var transaction = await late.BeginTransactionAsync();
            await store.AddAsync(transaction, [Crossing.TapEvent(0, "a")]);
            await AddAsync(store, 1, 2, 3);
            var underWay = (await store.ReadOutboxAsync(2)).Rows;
            Assert.Equal(["1", "2"], underWay.Select(r => r.Event.Id));
            // It is not there yet, and neither is what follows it.
            Assert.Equal("3", Assert.Single((await store.ReadOnAsync(underWay, 2)).Rows).Event.Id);

            await transaction.CommitAsync();
            await AddAsync(store, 4);
            Assert.Empty((await store.ReadOnAsync(underWay, 2)).Rows);
        }
        Assert.Equal(["0", "1", "2", "3", "4"], (await store.ReadOutboxAsync(10)).Rows.Select(r => r.Event.Id));

        static async Task AddAsync(IStorePort store, params int[] numbers)
        {
            await using var connection = await store.OpenConnectionAsync();
            await using var transaction = await connection.BeginTransactionAsync();
            await store.AddAsync(transaction, [.. numbers.Select(n => Crossing.TapEvent(n, "a"))]);
            await transaction.CommitAsync();
        }
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Whatever_commits_is_relayed_and_nothing_else_while_relays_are_killed(bool inOneDatabase)
    {
        await using var crossing = new Crossing(inOneDatabase ? new OneDatabase() : new Databases());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        await using (var connection = await harbour.Store().OpenConnectionAsync()) await connection.ExecuteAsync(
            "CREATE TABLE tap (number INTEGER)");
        var outbox = harbour.Services.GetRequiredService<IOutbox>();

        var next = 0;
        var publishing = Task.WhenAll(Enumerable.Range(0, 32).Select(writer => Task.Run(async () =>
        {
            var random = new Random(writer);
            while (Interlocked.Increment(ref next) is var number && number <= Count)
            {
                await using var connection = await harbour.Store().OpenConnectionAsync();
                await using var transaction = await connection.BeginTransactionAsync();
                await connection.ExecuteAsync("INSERT INTO tap VALUES (@number)", ("@number", number));
                await outbox.AddAsync(transaction, new Tap(number));
                // A tenth of them keep the others' numbers waiting for long.
                await Task.Delay(random.Next(10) == 0 ? random.Next(100) : random.Next(5));
                if (random.Next(5) == 0) await transaction.RollbackAsync();
                else await transaction.CommitAsync();
            }
        })));

        var relays = Enumerable.Range(0, 2).Select(_ => new Rig(crossing, "relay", "harbour")).ToArray();
        try
        {
            for (var kill = 0; !publishing.IsCompleted; kill++)
            {
                var goal = Math.Min(Count, Volatile.Read(ref next) + 1500);
                await Crossing.UntilAsync(() => Task.FromResult(
                    publishing.IsCompleted || Volatile.Read(ref next) >= goal), "more is published");
                if (publishing.IsCompleted) break;
                await relays[kill % 2].KillAsync();
                relays[kill % 2].Dispose();
                relays[kill % 2] = new Rig(crossing, "relay", "harbour");
            }
            await publishing;
            await Crossing.UntilAsync(
                async () => (await harbour.Store().ReadOutboxFiguresAsync()).Waiting == 0, "all is relayed");
        }
        finally
        {
            foreach (var relay in relays) relay.Dispose();
        }
        var committed = await Crossing.NumbersAsync(harbour.Store(), "SELECT number FROM tap ORDER BY 1");
        var relayed = (await crossing.Reports.PeekAsync("taps", 2 * Count)).Select(e => Crossing.NumberOf(e.Json))
            .ToList();
        // A relay that was killed publishes again; where there is nothing between publishing and marking, it does not.
        Assert.Equal(committed, (inOneDatabase ? relayed : relayed.Distinct()).Order());
    }
}
