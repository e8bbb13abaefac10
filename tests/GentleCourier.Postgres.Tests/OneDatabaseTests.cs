using GentleCourier.Conformance;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres.Tests;

/// <summary>All stores and the broker of a test in one database, each with its tables in a schema of its own.</summary>
public sealed class OneDatabase : Databases
{
    public override string Broker => Address("all");

    public override string Store(string service)
    {
        var schema = service.Replace('-', '_');
        return $"{Address("all")}?schema={schema}&search path={schema}";
    }
}

public sealed class OneDatabaseRelayTests : RelayScenarios<OneDatabase>
{
    [Fact]
    public override async Task A_relay_killed_between_confirmation_and_mark_causes_a_second_copy_that_is_absorbed()
    {
        await using var crossing = new Crossing(new OneDatabase());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        await harbour.PublishAsync(Enumerable.Range(0, 20).Select(i => new Tap(i)));

        // Here the two are one, and there is no second copy to absorb.
        using (var rig = new Rig(crossing, "relay", "harbour", $"Rig:Fault={FaultPoint.CommittedNotConfirmed}"))
            Assert.Equal(Rig.Killed, await rig.EndsAsync());
        Assert.Equal(20, (await crossing.FiguresAsync("taps")).Ready);
        Assert.Equal(0, (await harbour.Store().ReadOutboxFiguresAsync()).Waiting);
    }
}

/// <summary>Events that do not leave the database on their way.</summary>
public sealed class OneDatabaseTests
{
    private static async Task<(IStorePort Store, IDirectWay Way, long Term)> OpenAsync(
        Crossing crossing, params (string, string)[] routes)
    {
        await crossing.RouteAsync(routes);
        var store = crossing.SharedStore("harbour");
        await store.PrepareAsync(create: true);
        var way = await store.FindDirectWayAsync(crossing.Broker());
        Assert.NotNull(way);
        return (store, way, (await store.LeadAsync("one", TimeSpan.FromSeconds(60)))!.Value);
    }

    private static async Task AddAsync(IStorePort store, params EncodedEvent[] events)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await store.AddAndCommitAsync(transaction, events);
    }

    private static async Task<List<int>> QueueAsync(Crossing crossing, string queue) =>
        [.. (await crossing.Reports.PeekAsync(queue, 100)).Select(e => Crossing.NumberOf(e.Json))];

    [Fact]
    public async Task Batches_move_in_order_into_every_queue_that_is_routed()
    {
        await using var crossing = new Crossing(new OneDatabase());
        var (store, way, term) = await OpenAsync(
            crossing, ("test.tap", "taps"), ("test.tap", "deck"), ("test.other", "deck"));
        await AddAsync(store, [.. Enumerable.Range(0, 25).Select(n => Crossing.TapEvent(n, "card-1"))]);

        Assert.Equal(10, (await way.MoveAsync(term, 10)).Values.Sum());
        Assert.Equal(Enumerable.Range(0, 10), await QueueAsync(crossing, "taps"));
        Assert.Equal(10, (await way.MoveAsync(term, 10)).Values.Sum());
        Assert.Equal(5, (await way.MoveAsync(term, 10)).Values.Sum());
        Assert.Equal(0, (await way.MoveAsync(term, 10)).Values.Sum());
        Assert.Equal(Enumerable.Range(0, 25), await QueueAsync(crossing, "taps"));
        Assert.Equal(Enumerable.Range(0, 25), await QueueAsync(crossing, "deck"));
        Assert.Equal(25, (await crossing.FiguresAsync("taps")).Ready);
        Assert.Empty((await store.ReadOutboxAsync(10)).Rows);

        // One that no longer leads moves nothing.
        await AddAsync(store, Crossing.TapEvent(25));
        await store.ResignAsync(term);
        Assert.Equal(0, (await way.MoveAsync(term, 10)).Values.Sum());
        Assert.Single((await store.ReadOutboxAsync(10)).Rows);
    }

    [Fact]
    public async Task What_is_not_plain_is_left_to_the_usual_way()
    {
        await using var crossing = new Crossing(new OneDatabase());
        var (store, way, term) = await OpenAsync(crossing, ("test.tap", "taps"));
        async Task LeavesAsync(params EncodedEvent[] events)
        {
            await AddAsync(store, events);
            Assert.Equal(0, (await way.MoveAsync(term, 100)).Values.Sum());
            var rows = (await store.ReadOutboxAsync(100)).Rows;
            Assert.Equal(events.Length, rows.Count);
            await store.MarkAsync(term, Crossing.Marks(rows, default, [.. rows.Select(_ => PublishResult.Taken)]));
        }

        await LeavesAsync(Crossing.TapEvent(1), new("2", "test.unknown", null, Crossing.TapEvent(2).Json));
        await LeavesAsync(Crossing.TapEvent(1), new("2", "test.tap", null, new byte[5_000_000]));

        // An event is held, and others with its key wait behind it: in nobody's way, until they are due.
        await AddAsync(store, Crossing.TapEvent(1, "card-1"));
        var notNow = PublishResult.Deferred("not now");
        var held = (await store.ReadOutboxAsync(1)).Rows;
        await store.MarkAsync(term, Crossing.Marks(held, TimeSpan.FromHours(1), notNow));
        await AddAsync(store, Crossing.TapEvent(2, "card-1"), Crossing.TapEvent(3, "card-2"));
        Assert.Equal(1, (await way.MoveAsync(term, 100)).Values.Sum());
        Assert.Empty((await store.ReadOutboxAsync(100)).Rows);
        Assert.Equal(["1", "2"], (await store.Held.ReadHeldAsync(9)).Select(h => h.Id));
        await using (var connection = await store.OpenConnectionAsync()) await connection.ExecuteAsync(
            "UPDATE harbour.held_key SET due = now()");
        await AddAsync(store, Crossing.TapEvent(4));
        Assert.Equal(0, (await way.MoveAsync(term, 100)).Values.Sum());
        Assert.Equal(["1", "4"], (await store.ReadOutboxAsync(100)).Rows.Select(r => r.Event.Id));

        // So is one without a key.
        await using var other = new Crossing(new OneDatabase());
        (store, way, term) = await OpenAsync(other, ("test.tap", "taps"));
        await AddAsync(store, Crossing.TapEvent(1));
        held = (await store.ReadOutboxAsync(1)).Rows;
        await store.MarkAsync(term, Crossing.Marks(held, TimeSpan.FromHours(1), notNow));
        await AddAsync(store, Crossing.TapEvent(2));
        Assert.Equal(1, (await way.MoveAsync(term, 100)).Values.Sum());
        await using (var connection = await store.OpenConnectionAsync()) await connection.ExecuteAsync(
            "UPDATE harbour.outbox_held SET due = now()");
        await AddAsync(store, Crossing.TapEvent(3));
        Assert.Equal(0, (await way.MoveAsync(term, 100)).Values.Sum());
        Assert.Equal(["1", "3"], (await store.ReadOutboxAsync(100)).Rows.Select(r => r.Event.Id));
    }

    [Fact]
    public async Task There_is_none_between_databases()
    {
        await using var crossing = new Crossing(new Databases());
        await crossing.RouteAsync(("test.tap", "taps"));
        var store = crossing.SharedStore("harbour");
        await store.PrepareAsync(create: true);
        Assert.Null(await store.FindDirectWayAsync(crossing.Broker()));
    }

    [Fact]
    public async Task A_store_whose_role_may_not_write_into_queues_publishes_in_the_name_of_the_brokers()
    {
        await using var crossing = new Crossing(new OneDatabase());
        await crossing.RouteAsync(("test.tap", "taps"));
        var owned = crossing.SharedStore("harbour");
        await owned.PrepareAsync(create: true);
        var role = $"harbour_{Guid.NewGuid():N}";
        await using (var connection = await owned.OpenConnectionAsync())
        {
            await connection.ExecuteAsync(
                $"CREATE ROLE {role} LOGIN PASSWORD 'gate'; GRANT USAGE ON SCHEMA harbour TO {role}; GRANT SELECT, "
                + $"INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA harbour TO {role}");
        }
        try
        {
            var harbour = await crossing.StartAsync("harbour", settings: new()
            {
                ["Courier:Store"] = crossing.StoreAddress("harbour")
                    .Replace("owner@", $"{role}:gate@", StringComparison.Ordinal),
            });
            await harbour.PublishAsync(Enumerable.Range(0, 10).Select(n => new Tap(n)));
            await Crossing.UntilAsync(
                async () => await crossing.FiguresAsync("taps") is { Ready: 10 }, "all have been relayed");
            Assert.Null((await owned.ReadOutboxFiguresAsync()).LastError);
        }
        finally
        {
            await using var connection = await owned.OpenConnectionAsync();
            await connection.ExecuteAsync($"DROP OWNED BY {role}");
            NpgsqlConnection.ClearAllPools();
            await connection.ExecuteAsync($"DROP ROLE {role}");
        }
    }
}
