using GentleCourier.Conformance;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres.Tests;

/// <summary>
/// What a relay may do to an outbox whose numbers have begun again under it, or once another leads.
/// </summary>
public sealed class TermTests
{
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(5);

    private static async Task AddAsync(IStorePort store, params EncodedEvent[] events)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await store.AddAndCommitAsync(transaction, events);
    }

    private static async Task ExecuteAsync(Databases place, string sql)
    {
        await using var connection = place.Open("harbour");
        await connection.ExecuteAsync(sql);
    }

    /// <summary>How many sessions of this database alone wait for a lock.</summary>
    private static Task<long> WaitingAsync(IStorePort store) => store.CountAsync(
        "pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'");

    private static async Task<IReadOnlyList<OutboxRow>> ReadAsync(IStorePort store) =>
        (await store.ReadOutboxAsync(100)).Rows;

    private static async Task<(Crossing Crossing, Databases Place, IStorePort Store)> BeginAsync()
    {
        var place = new Databases();
        var crossing = new Crossing(place);
        var store = crossing.SharedStore("harbour");
        await store.PrepareAsync(create: true);
        return (crossing, place, store);
    }

    /// <summary>
    /// As where a standby is promoted, or a backup restored, while events are on their way: it is another server then,
    /// and numbers come again.
    /// </summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task An_event_that_has_got_the_number_of_one_on_its_way_stays(bool isHeld)
    {
        using var server = SharedServer.Start();
        var place = new Databases(server);
        await using var crossing = new Crossing(place);
        await using var store = new PostgresEngine().CreateStore(
            Crossing.Parse($"{place.Store("harbour")}?password={Uri.EscapeDataString(server.Password)}"),
            TimeProvider.System);
        await store.PrepareAsync(create: true);
        var term = (await store.LeadAsync("one", Lease))!.Value;
        await AddAsync(store, [.. Enumerable.Range(1, 3).Select(n => Crossing.TapEvent(n))]);
        if (isHeld)
        {
            await store.MarkAsync(term, Crossing.Marks(
                await ReadAsync(store), TimeSpan.Zero, [.. Enumerable.Repeat(PublishResult.Deferred("later"), 3)]));
        }
        var onTheirWay = await ReadAsync(store);
        Assert.Equal(isHeld, onTheirWay[0].IsHeld);
        server.Stop(immediately: false);
        server.Start();
        await ExecuteAsync(place,
            $"UPDATE courier.outbox{(isHeld ? "_held" : "")} SET event_id = 'another' WHERE event_id = '2'");

        // The connections of before are gone.
        await Crossing.UntilAsync(
            async () =>
            {
                try
                {
                    return await store.MarkAsync(term, Crossing.Marks(
                        onTheirWay, Lease, [.. Enumerable.Repeat(PublishResult.Taken, 3)]));
                }
                catch (CourierException e) when (e.IsTransient)
                {
                    return false;
                }
            },
            "they are marked");
        var there = await ReadAsync(store);
        Assert.Equal(["1", "another", "3"], there.Select(r => r.Event.Id));
        await store.MarkAsync(term, Crossing.Marks(there, Lease, [.. Enumerable.Repeat(PublishResult.Taken, 3)]));
        Assert.Empty(await ReadAsync(store));
    }

    [Fact]
    public async Task Nobody_sets_the_clock_of_a_server_by_hand()
    {
        await using var crossing = new Crossing(new Databases());
        var refused = await Assert.ThrowsAsync<CourierException>(
            () => crossing.SharedStore("harbour").Later.SetClockAsync(DateTimeOffset.UtcNow));
        Assert.EndsWith("goes by its server's clock: set that one right", refused.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Who_does_not_lead_lets_go_of_no_key_and_holds_nothing()
    {
        var (crossing, place, store) = await BeginAsync();
        await using var end = crossing;
        var term = (await store.LeadAsync("one", Lease))!.Value;
        await AddAsync(store, Crossing.TapEvent(1, "a"));
        await store.MarkAsync(
            term, Crossing.Marks(await ReadAsync(store), Lease, PublishResult.Deferred("later")));
        await AddAsync(store, Crossing.TapEvent(2, "a"));
        await ExecuteAsync(place, "INSERT INTO courier.held_key (partition_key, due, flows) VALUES ('b', now(), true)");

        await using var other = crossing.Store("harbour");
        Assert.Empty(await ReadAsync(other));
        Assert.Equal((2, 1), (await store.CountAsync("courier.held_key"), await store.CountAsync("courier.outbox")));
        Assert.Empty(await ReadAsync(store));
        Assert.Equal((1, 0), (await store.CountAsync("courier.held_key"), await store.CountAsync("courier.outbox")));
    }

    /// <summary>It would never be read again, and all that follow it neither.</summary>
    [Fact]
    public async Task An_event_whose_key_has_gone_is_found_by_the_next_who_leads()
    {
        var (crossing, place, store) = await BeginAsync();
        await using var end = crossing;
        var term = (await store.LeadAsync("one", Lease))!.Value;
        await AddAsync(store, Crossing.TapEvent(1, "a"), Crossing.TapEvent(2, "a"), Crossing.TapEvent(3));
        await store.MarkAsync(
            term, Crossing.Marks(await ReadAsync(store), Lease,
            [.. Enumerable.Repeat(PublishResult.Deferred("later"), 2), PublishResult.Refused("never")]));
        await ExecuteAsync(place, "DELETE FROM courier.held_key");
        Assert.Empty(await ReadAsync(store));

        await store.ResignAsync(term);
        await using var next = crossing.Store("harbour");
        await next.LeadAsync("two", Lease);
        Assert.Equal(["1"], (await ReadAsync(next)).Select(r => r.Event.Id));
        Assert.Equal(1, await store.CountAsync("courier.held_key"));
    }

    /// <summary>
    /// A relay that freezes in the middle of holding, and one that leads after it: what the first holds is whole, and
    /// the second finds it; or nothing is.
    /// </summary>
    [Fact]
    public async Task Nobody_takes_the_lead_between_two_statements_that_hold_something_together()
    {
        var (crossing, place, store) = await BeginAsync();
        await using var end = crossing;
        var term = (await store.LeadAsync("one", Lease))!.Value;
        await AddAsync(store, Crossing.TapEvent(1, "a"), Crossing.TapEvent(2, "a"));
        var rows = await ReadAsync(store);
        await ExecuteAsync(place, "UPDATE courier.relay SET until = now() - interval '1 hour'");

        // The first statement that holds has to wait.
        await using var connection = place.Open("harbour");
        await connection.ExecuteAsync("BEGIN");
        await connection.ExecuteAsync("SELECT FROM courier.outbox FOR UPDATE");
        var holding = store.MarkAsync(term, Crossing.Marks(
            rows, TimeSpan.Zero, PublishResult.Unrouted("no queue"), PublishResult.Deferred("behind it")));
        await Crossing.UntilAsync(
            async () => await WaitingAsync(store) == 1, "it waits for the row");
        await using var other = crossing.Store("harbour");
        var leading = other.LeadAsync("two", Lease);
        await Crossing.UntilAsync(
            async () => await WaitingAsync(store) == 2, "the other waits for it");
        await connection.ExecuteAsync("COMMIT");

        Assert.True(await holding);
        Assert.NotNull(await leading);
        Assert.Equal(1, await store.CountAsync("courier.held_obstacle"));
        Assert.Equal(1, await store.CountAsync("courier.held_key"));
        Assert.Equal(2, await store.CountAsync("courier.outbox_held"));
        Assert.Equal(["1"], (await ReadAsync(other)).Select(r => r.Event.Id));
    }

    /// <summary>As after a restore of some tables: nothing else would ever have them read.</summary>
    [Fact]
    public async Task What_waits_for_nothing_is_found_by_the_next_who_leads()
    {
        var (crossing, place, store) = await BeginAsync();
        await using var end = crossing;
        var term = (await store.LeadAsync("one", Lease))!.Value;
        await AddAsync(store, Crossing.TapEvent(1, "a"), Crossing.TapEvent(2, "a"), Crossing.TapEvent(3));
        var unrouted = PublishResult.Unrouted("no queue");
        await store.MarkAsync(term, Crossing.Marks(
            await ReadAsync(store), Lease, unrouted, PublishResult.Deferred("behind it"), unrouted));
        await ExecuteAsync(place, "DELETE FROM courier.held_obstacle");
        await ExecuteAsync(place, "DELETE FROM courier.outbox_held WHERE event_id = '1'");
        Assert.Empty(await ReadAsync(store));

        await store.ResignAsync(term);
        await using var next = crossing.Store("harbour");
        await next.LeadAsync("two", Lease);
        Assert.Equal(["2", "3"], (await ReadAsync(next)).Select(r => r.Event.Id).Order());
    }

    /// <summary>As where another has the table: it stays as it is, and that is said.</summary>
    [Fact]
    public async Task What_cannot_be_counted_in_time_is_left_as_it_is()
    {
        await using var crossing = new Crossing(new Databases());
        await crossing.RouteAsync(("test.tap", "taps"));
        await using var connection = await crossing.OpenBrokerAsync();
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            await connection.ExecuteAsync("LOCK TABLE courier.copy IN ACCESS EXCLUSIVE MODE");
            var counted = await crossing.Broker().Services.Recount!.RecountAsync(TimeSpan.FromMilliseconds(50));
            Assert.Equal(new Recounted("taps", null, null), Assert.Single(counted));
            Assert.Null(counted[0].Difference);
        }
        Assert.Empty(await crossing.Broker().Services.Recount!.RecountAsync(Crossing.Limit));
    }

    /// <summary>A role may have a limit to idle sessions: those that listen are idle.</summary>
    [Fact]
    public async Task No_limit_of_a_role_ends_a_session_that_is_idle()
    {
        var (crossing, place, store) = await BeginAsync();
        await using var end = crossing;
        await ExecuteAsync(place,
            "ALTER DATABASE \"" + await NameAsync(place) + "\" SET idle_session_timeout = '100ms'");
        // It does hold, where nothing is said.
        await using (var plain = place.Open("harbour"))
            Assert.Equal("100ms", await ShowAsync(plain));
        await using var later = crossing.Store("harbour");
        await using var connection = await later.OpenConnectionAsync();
        Assert.Equal("0", await ShowAsync((NpgsqlConnection)connection));
    }

    private static async Task<string> NameAsync(Databases place)
    {
        await using var connection = place.Open("harbour");
        return connection.Database;
    }

    private static async Task<string> ShowAsync(NpgsqlConnection connection)
    {
        await using var command = new NpgsqlCommand("SHOW idle_session_timeout", connection);
        return (string)(await command.ExecuteScalarAsync())!;
    }
}
