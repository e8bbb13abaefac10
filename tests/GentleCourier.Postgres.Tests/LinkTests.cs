using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Postgres.Tests;

public sealed class LinkTests
{
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(10);

    [Fact]
    public async Task Settling_and_renewing_of_one_link_never_wait_for_each_other_in_a_ring()
    {
        var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        var broker = crossing.Broker();
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        for (var round = 0; round < 20; round++)
        {
            await broker.PublishAsync([.. Enumerable.Range(0, 40).Select(i => Crossing.TapEvent(i))]);
            var held = new List<HandOver>();
            while (held.Count < 40) held.AddRange(await link.ReceiveAsync(4, CancellationToken.None));
            // Hand-over by hand-over, in one order and in the other.
            var settling = Task.Run(() => link.SettledAsync(
                [.. held.AsEnumerable().Reverse().Select(d => new Settlement(d, Outcome.Accepted))]));
            await link.RenewAsync(held, CancellationToken.None);
            Assert.All(await settling, Assert.True);
        }
        await using var connection = place.Open("broker");
        await using var command = connection.CreateCommand();
        command.CommandText = "SELECT deadlocks FROM pg_stat_database WHERE datname = current_database()";
        Assert.Equal(0L, await command.ExecuteScalarAsync());
    }

    /// <summary>
    /// Its lease ran out, and the same link got it again: what becomes of the first is nothing to the second, whatever
    /// else is settled along with it.
    /// </summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Of_a_copy_that_a_link_has_twice_only_what_it_got_last_can_be_settled(bool isInKeyOrder)
    {
        await using var crossing = new Crossing(new Databases());
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var broker = crossing.AnotherBroker(clock);
        await broker.PrepareAsync(
            new Topology(["taps"], [new Route("test.tap", "taps")]) { InKeyOrder = isInKeyOrder ? ["taps"] : [] },
            create: true);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        await broker.PublishAsync([Crossing.TapEvent(1)]);
        var first = Assert.Single(await link.ReceiveAsync(1, CancellationToken.None));
        clock.Advance(Lease + Lease);
        await broker.PublishAsync([Crossing.TapEvent(2)]);
        var taken = new List<HandOver>();
        while (taken.Count < 2)
            taken.AddRange(await link.ReceiveAsync(2, CancellationToken.None).WaitAsync(Crossing.Limit));
        var (again, other) = (taken.Single(d => Crossing.NumberOf(d.Json) == 1), taken.Single(
            d => Crossing.NumberOf(d.Json) == 2));
        Assert.Equal((2, 1), (again.Attempt, again.Abandoned));
        Assert.Equal(
            [false, true],
            await link.SettledAsync([new(first, Outcome.Accepted), new(other, Outcome.Accepted)]));
        Assert.Equal(1, (await crossing.FiguresAsync("taps")).InHand);
        Assert.Equal([true], await link.SettledAsync([new(again, Outcome.Accepted)]));
    }

    /// <summary>What was settled stays in the table while somebody holds a snapshot: looks begin behind it.</summary>
    [Fact]
    public async Task While_a_snapshot_is_held_hand_overs_from_the_head_begin_behind_what_is_dead()
    {
        var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        await using var forgotten = place.Open("broker");
        await using var snapshot = await forgotten.BeginTransactionAsync(System.Data.IsolationLevel.RepeatableRead);
        await using (var look = forgotten.CreateCommand())
        {
            look.CommandText = "SELECT count(*) FROM courier.copy";
            await look.ExecuteScalarAsync();
        }

        // A clock that stands still: it is never time to look at all.
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var broker = crossing.AnotherBroker(clock);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        await broker.PublishAsync([.. Enumerable.Range(1, 400).Select(i => Crossing.TapEvent(i))]);
        var first = await link.ReceiveAsync(1, CancellationToken.None);
        for (var handled = 1; handled < 400;)
        {
            var taken = await link.ReceiveAsync(50, CancellationToken.None);
            handled += taken.Count;
            await link.SettledAsync([.. taken.Select(d => new Settlement(d, Outcome.Accepted))]);
        }
        // The first is still in hand, and may come back: the place stays before it.
        await OneMoreAsync(401);
        Assert.Equal(0, ((PostgresBroker)broker).PlaceOf(1).From);
        await link.SettledAsync([new(first[0], Outcome.Released)]);
        Assert.Equal(1, Crossing.NumberOf((await OneMoreAsync(402))[0].Json));
        var number = 403;
        await Crossing.UntilAsync(
            async () =>
            {
                await OneMoreAsync(number++);
                return ((PostgresBroker)broker).PlaceOf(1).From >= 402;
            },
            "the place has followed");

        // A copy behind the place, as a failover that has set numbers back would bring it, is found in time.
        await using (var insert = forgotten.CreateCommand())
        {
            await snapshot.RollbackAsync();
            insert.CommandText = "INSERT INTO courier.copy (queue, id, arrived, event) OVERRIDING SYSTEM VALUE "
                + "VALUES (1, 5, now(), $1)";
            insert.Parameters.Add(new Npgsql.NpgsqlParameter { Value = Crossing.TapEvent(5).Json.ToArray() });
            await insert.ExecuteNonQueryAsync();
        }
        clock.Advance(TimeSpan.FromMinutes(1));
        Assert.Equal(5, Crossing.NumberOf((await OneMoreAsync(number))[0].Json));

        async Task<IReadOnlyList<HandOver>> OneMoreAsync(int another)
        {
            await broker.PublishAsync([Crossing.TapEvent(another)]);
            var taken = await link.ReceiveAsync(50, CancellationToken.None).WaitAsync(Crossing.Limit);
            await link.SettledAsync([.. taken.Select(d => new Settlement(d, Outcome.Accepted))]);
            return taken;
        }
    }
}
