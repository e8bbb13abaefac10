using GentleCourier.Conformance;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres.Tests;

/// <summary>In key order a settlement, and a look for what comes next, are transactions of their own.</summary>
public sealed class KeySettlementTests : IAsyncLifetime
{
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(5);

    private readonly Databases place = new();
    private Crossing crossing = null!;
    private IBroker broker = null!;
    private IReceivingLink link = null!;

    public async ValueTask InitializeAsync()
    {
        crossing = new Crossing(place);
        broker = crossing.Broker();
        await broker.PrepareAsync(
            new Topology(["taps"], [new Route("test.tap", "taps")]) { InKeyOrder = ["taps"] }, create: true);
        link = await broker.OpenLinkAsync("taps", "w", Lease);
    }

    public async ValueTask DisposeAsync()
    {
        await link.DisposeAsync();
        await crossing.DisposeAsync();
        await place.DisposeAsync();
    }

    [Fact]
    public async Task What_is_not_settled_hands_nothing_over()
    {
        await PublishAsync(0, "a", "b", "a", "b", "c");
        var held = await TakeAsync(2);
        await RefuseAsync("copy", "DELETE", "not settled", atCommit: true);
        await RefusedAsync();
        // The first reason is told where there are several.
        await RefuseAsync("link", "UPDATE", "nor noted", atCommit: false);
        await RefusedAsync();
        Assert.Equal(2L, await ReadAsync("SELECT count(*) FROM courier.key_lease"));

        await AllowAsync("copy", "link");
        var exchange = await link.SettleAsync(Accepted(held), 10, CancellationToken.None);
        Assert.Equal([2, 3, 4], exchange.Deliveries.Select(d => Crossing.NumberOf(d.Json)));

        async Task RefusedAsync()
        {
            var refused = await Assert.ThrowsAsync<CourierException>(
                () => link.SettleAsync(Accepted(held), 10, CancellationToken.None));
            Assert.Contains("not settled", refused.Message, StringComparison.Ordinal);
            Assert.Equal(2, await CountInHandAsync());
        }
    }

    [Fact]
    public async Task In_a_schema_of_another_name_it_is_the_same()
    {
        Assert.True(EngineAddress.TryParse($"{place.Broker}?schema=fares", out var address));
        await using var other = new PostgresEngine().CreateBroker(address, TimeProvider.System);
        await other.PrepareAsync(
            new Topology(["taps"], [new Route("test.tap", "taps")]) { InKeyOrder = ["taps"] }, create: true);
        await other.PublishAsync(
            [.. new[] { "a", "b", "a", "b" }.Select((key, n) => Crossing.TapEvent(n, key))]);
        await using var taking = await other.OpenLinkAsync("taps", "w", Lease);
        var held = await taking.ReceiveAsync(10, CancellationToken.None).WaitAsync(Crossing.Limit);
        Assert.Equal([0, 1], held.Select(d => Crossing.NumberOf(d.Json)));
        var exchange = await taking.SettleAsync(Accepted([.. held]), 10, CancellationToken.None);
        Assert.Equal([2, 3], exchange.Deliveries.Select(d => Crossing.NumberOf(d.Json)));
    }

    [Fact]
    public async Task What_is_settled_stays_so_where_the_look_for_the_next_fails()
    {
        await PublishAsync(0, "a", "b", "a", "b");
        var held = await TakeAsync(2);
        await RefuseAsync("key_lease", "INSERT", "no look", atCommit: false);
        var exchange = await link.SettleAsync(Accepted(held), 10, CancellationToken.None);
        Assert.Equal([true, true], exchange.Took);
        Assert.Empty(exchange.Deliveries);

        await AllowAsync("key_lease");
        Assert.Equal([2, 3], (await TakeAsync(2)).Select(d => Crossing.NumberOf(d.Json)));
    }

    /// <summary>
    /// One worker takes an event while an older one of its key is not committed; another takes that one, before it can
    /// see what the first has. One of them gives back what it has, before anybody begins it.
    /// </summary>
    [Fact]
    public async Task Two_that_take_different_events_of_a_key_at_the_same_moment_do_not_both_have_one()
    {
        await PublishAsync(1, "x");
        await TakeAsync(1);
        await using var late = place.Open("broker");
        await using var adding = await late.BeginTransactionAsync();
        await late.ExecuteAsync(
            "INSERT INTO courier.copy (queue, arrived, event, key) SELECT id, now(), convert_to('"
            + System.Text.Encoding.UTF8.GetString(Crossing.TapEvent(0).Json.Span)
            + "', 'UTF8'), 'a' FROM courier.queue");
        await PublishAsync(2, "a");
        // The first has taken it, and is not through.
        await using var blocking = place.Open("broker");
        await using var block = await blocking.BeginTransactionAsync();
        await blocking.ExecuteAsync("SELECT FROM courier.link FOR UPDATE");
        var first = link.ReceiveAsync(10, CancellationToken.None);
        await Crossing.UntilAsync(
            async () => await ReadAsync("SELECT count(*) FROM pg_stat_activity "
                + "WHERE datname = current_database() AND wait_event_type = 'Lock'") is > 0L,
            "it waits");
        await adding.CommitAsync();
        await using var other = await broker.OpenLinkAsync("taps", "v", Lease);
        var second = Assert.Single(await other.ReceiveAsync(10, CancellationToken.None).WaitAsync(Crossing.Limit));
        Assert.Equal(0, Crossing.NumberOf(second.Json));

        await block.RollbackAsync();
        await Crossing.UntilAsync(async () => await CountInHandAsync() == 2, "it is given back");
        Assert.False(first.IsCompleted);
        await other.SettledAsync([new(second, Outcome.Accepted)]);
        Assert.Equal(2, Crossing.NumberOf(Assert.Single(await first.WaitAsync(Crossing.Limit)).Json));
    }

    private async Task PublishAsync(int first, params string[] keys) =>
        await broker.PublishAsync([.. keys.Select((key, n) => Crossing.TapEvent(first + n, key))]);

    private async Task<List<HandOver>> TakeAsync(int count)
    {
        var held = new List<HandOver>();
        while (held.Count < count)
            held.AddRange(await link.ReceiveAsync(count, CancellationToken.None).WaitAsync(Crossing.Limit));
        return held;
    }

    private static List<Settlement> Accepted(List<HandOver> held) =>
        held.ConvertAll(d => new Settlement(d, Outcome.Accepted));

    private async Task<long> CountInHandAsync() =>
        (long)(await ReadAsync("SELECT count(*) FROM courier.copy WHERE until IS NOT NULL"))!;

    private async Task<object?> ReadAsync(string sql)
    {
        await using var connection = place.Open("broker");
        await using var command = new NpgsqlCommand(sql, connection);
        return await command.ExecuteScalarAsync();
    }

    private async Task RefuseAsync(string table, string what, string why, bool atCommit)
    {
        await using var connection = place.Open("broker");
        await connection.ExecuteAsync(
            $"CREATE FUNCTION refuse_{table}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE '{why}'; END $$; "
            + $"CREATE CONSTRAINT TRIGGER refused AFTER {what} ON courier.{table} DEFERRABLE INITIALLY "
            + $"{(atCommit ? "DEFERRED" : "IMMEDIATE")} FOR EACH ROW EXECUTE FUNCTION refuse_{table}()");
    }

    private async Task AllowAsync(params string[] tables)
    {
        await using var connection = place.Open("broker");
        foreach (var table in tables) await connection.ExecuteAsync($"DROP TRIGGER refused ON courier.{table}");
    }
}
