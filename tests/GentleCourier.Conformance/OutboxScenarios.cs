using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Conformance;

public abstract class OutboxScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly Dictionary<string, string?> NoRelay = new() { ["Courier:Relay:Enabled"] = "false" };

    [Theory]
    [InlineData(true, 1)]
    [InlineData(false, 0)]
    public async Task Event_and_business_change_are_both_there_or_neither(bool commit, int expected)
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", settings: NoRelay);
        await using (var connection = await harbour.Store().OpenConnectionAsync())
        {
            await connection.ExecuteAsync("CREATE TABLE tap (number INTEGER)");
            await using var transaction = await connection.BeginTransactionAsync();
            await connection.ExecuteAsync("INSERT INTO tap VALUES (1)");
            await harbour.Services.GetRequiredService<IOutbox>().AddAsync(transaction, new Tap(1));
            if (commit) await transaction.CommitAsync();
            else await transaction.RollbackAsync();
        }

        Assert.Equal(expected, await harbour.Store().CountAsync("tap"));
        Assert.Equal(expected, (await harbour.Store().ReadOutboxFiguresAsync()).Waiting);
    }

    [Fact]
    public async Task Of_many_transactions_that_overlap_exactly_the_committed_ones_are_relayed()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        // Two relays of one store compete while it is written to.
        var harbour = await crossing.StartAsync("harbour");
        await crossing.StartAsync("harbour");
        await using (var setUp = await harbour.Store().OpenConnectionAsync()) await setUp.ExecuteAsync(
            "CREATE TABLE tap (number INTEGER)");

        const int Writers = 8, Each = 40;
        await Task.WhenAll(Enumerable.Range(0, Writers).Select(writer => Task.Run(async () =>
        {
            var random = new Random(writer);
            for (var i = 0; i < Each; i++)
            {
                var number = (writer * Each) + i;
                await using var connection = await harbour.Store().OpenConnectionAsync();
                await using var transaction = await connection.BeginTransactionAsync();
                if (random.Next(2) == 0) await Task.Yield();
                await harbour.Services.GetRequiredService<IOutbox>()
                    .AddAsync(transaction, new Tap(number), new() { PartitionKey = $"{writer}" });
                await connection.ExecuteAsync("INSERT INTO tap VALUES (@number)", ("@number", number));
                if (random.Next(3) == 0) await transaction.RollbackAsync();
                else await transaction.CommitAsync();
            }
        })));

        var committed = await Crossing.NumbersAsync(harbour.Store(), "SELECT number FROM tap");
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Waiting == 0, "all is relayed");
        var relayed = (await crossing.Reports.PeekAsync("taps", 10_000)).Select(e => Crossing.NumberOf(e.Json))
            .Distinct().ToList();
        Assert.Equal(committed.Order(), relayed.Order());
        foreach (var writer in relayed.GroupBy(number => number / Each)) Assert.Equal(writer.Order(), writer);
    }

    [Fact]
    public async Task A_contract_that_cannot_be_published_leaves_the_transaction_as_it_was()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", settings: NoRelay);
        var outbox = harbour.Services.GetRequiredService<IOutbox>();
        await using (var connection = await harbour.Store().OpenConnectionAsync())
        {
            await using var transaction = await connection.BeginTransactionAsync();
            await outbox.AddAsync(transaction, new Tap(1));
            await Assert.ThrowsAsync<ContractException>(() => outbox.AddManyAsync(
                transaction, [EventDraft.Of(new Tap(2)), EventDraft.Of(new Tap(3, null!))]));
            await transaction.CommitAsync();
        }
        Assert.Equal(1, (await harbour.Store().ReadOutboxFiguresAsync()).Waiting);
    }

    [Fact]
    public async Task A_transaction_that_is_over_or_of_another_database_is_refused()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", settings: NoRelay);
        var other = await crossing.StartAsync("other", settings: NoRelay);
        var outbox = harbour.Services.GetRequiredService<IOutbox>();

        await using var connection = await harbour.Store().OpenConnectionAsync();
        await using var over = await connection.BeginTransactionAsync();
        await over.CommitAsync();
        var error = await Assert.ThrowsAsync<CourierException>(() => outbox.AddAsync(over, new Tap(1)));
        Assert.Contains("the transaction is over", error.Message, StringComparison.Ordinal);

        await using var elsewhere = await other.Store().OpenConnectionAsync();
        await using var foreign = await elsewhere.BeginTransactionAsync();
        error = await Assert.ThrowsAsync<CourierException>(() => outbox.AddAsync(foreign, new Tap(1)));
        Assert.Contains("both must be one database", error.Message, StringComparison.Ordinal);
        Assert.Contains(harbour.Store().DisplayName, error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_burst_of_a_hundred_connections_publishes_exactly_one_event_each()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour");
        await Task.WhenAll(Enumerable.Range(0, 100).Select(i => Task.Run(() => harbour.PublishAsync(new Tap(i)))));
        await Crossing.UntilAsync(
            async () => (await crossing.Reports.ReadFiguresAsync()).Queues[0].Ready == 100, "all are relayed");
        var numbers = (await crossing.Reports.PeekAsync("taps", 1000)).Select(e => Crossing.NumberOf(e.Json));
        Assert.Equal(Enumerable.Range(0, 100), numbers.Order());
    }
}
