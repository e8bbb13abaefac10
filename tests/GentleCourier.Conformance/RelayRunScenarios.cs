using System.Collections.Concurrent;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>A backlog of several batches: one is on its way while another is marked and a third is read.</summary>
public abstract class RelayRunScenarios<TPlace> where TPlace : Place, new()
{
    private const int Batch = 10;

    private static readonly Dictionary<string, string?> Small = new()
    {
        ["Courier:Relay:BatchSize"] = $"{Batch}", ["Courier:Relay:FirstDelay"] = "00:00:00.010",
        ["Courier:Relay:MaxDelay"] = "00:00:00.050",
    };

    [Fact]
    public async Task While_a_batch_is_on_its_way_the_one_before_is_marked_and_the_next_one_read()
    {
        await using var crossing = new Crossing(new TPlace());
        await WaitingAsync(crossing, 3 * Batch);
        var calls = new ConcurrentQueue<string>();
        var engine = new TroubledEngine(crossing.Engine)
        {
            Before = call => Note(call, "PublishAsync"), BeforeStore = call => Note(call, "ReadOnAsync", "MarkAsync"),
        };
        crossing.Engine = engine;

        // However long it takes: by this clock no time goes by.
        await StartAsync(crossing, new FakeTimeProvider(DateTimeOffset.UtcNow));
        await RelayedAsync(crossing);
        Assert.Equal(
            "Publish ReadOn Publish Mark ReadOn Publish Mark ReadOn Mark",
            string.Join(' ', calls).Replace("Async", "", StringComparison.Ordinal));
        Assert.Equal(Enumerable.Range(0, 3 * Batch), await NumbersAsync(crossing));

        void Note(string call, params string[] wanted)
        {
            if (wanted.Contains(call)) calls.Enqueue(call);
        }
    }

    /// <summary>It may have been read by the time it turns out that another one before it, by its key, waits.</summary>
    [Fact]
    public async Task What_follows_an_event_that_has_to_wait_waits_with_it_in_the_next_batch_too()
    {
        await using var crossing = new Crossing(new TPlace());
        await WaitingAsync(
            crossing, 3 * Batch,
            i => i == 5 ? Crossing.UnroutedEvent(i, "a") : Crossing.TapEvent(i, i is 15 or 25 ? "a" : null));
        await StartAsync(crossing);

        await Crossing.UntilAsync(
            async () => (await crossing.SharedStore("harbour").ReadOutboxFiguresAsync()) is { Held: 3, Waiting: 3 },
            "it waits, with those that follow it");
        Assert.Equal(Enumerable.Range(0, 3 * Batch).Except([5, 15, 25]), await NumbersAsync(crossing));
        Assert.Equal(
            ["5", "15", "25"], (await crossing.SharedStore("harbour").Held.ReadHeldAsync(10)).Select(held => held.Id));
    }

    [Fact]
    public async Task A_batch_that_could_not_be_marked_is_published_again_and_the_one_that_went_meanwhile_is_not()
    {
        await using var crossing = new Crossing(new TPlace());
        await WaitingAsync(crossing, 4 * Batch);
        var toFail = 1;
        crossing.Engine = new TroubledEngine(crossing.Engine)
        {
            BeforeStore = call =>
            {
                if (call == "MarkAsync" && Interlocked.Decrement(ref toFail) == 0)
                    throw new CourierException("the store is away") { IsTransient = true };
            },
        };

        await StartAsync(crossing);
        await RelayedAsync(crossing);
        var numbers = await NumbersAsync(crossing);
        Assert.Equal(Enumerable.Range(0, 4 * Batch), numbers.Distinct().Order());
        Assert.Equal(
            Enumerable.Range(0, Batch), numbers.GroupBy(n => n).Where(g => g.Count() == 2).Select(g => g.Key).Order());
        Assert.Equal(5 * Batch, numbers.Count);
    }

    /// <summary>Two batches are not marked then, at the most, and each is published once more.</summary>
    [Fact]
    public async Task A_relay_killed_while_a_batch_is_on_its_way_and_the_one_before_is_not_marked_loses_nothing()
    {
        await using var crossing = new Crossing(new TPlace());
        await WaitingAsync(crossing, 3 * Batch);
        using (var rig = new Rig(
            crossing, "relay", "harbour", $"Rig:Fault={FaultPoint.NextUnderWayNotMarked}",
            $"Courier:Relay:BatchSize={Batch}"))
            Assert.Equal(Rig.Killed, await rig.EndsAsync());
        // On a slow machine the first one may have taken so long that it was marked by itself.
        Assert.InRange(
            (await crossing.SharedStore("harbour").ReadOutboxFiguresAsync()).Waiting, 2 * Batch, 3 * Batch);

        var log = new Log();
        await StartAsync(crossing);
        await RelayedAsync(crossing);
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 3 * Batch), log.Taps.Select(t => t.Data.Number).Order());
        var copies = (await crossing.SharedStore("fares").Inbox.ReadAsync("taps")).Select(e => e.Copies).ToList();
        Assert.InRange(copies.Count(c => c == 2), Batch, 2 * Batch);
        Assert.All(copies, c => Assert.InRange(c, 1, 2));
    }

    [Fact]
    public async Task What_is_behind_a_row_is_read_in_its_order_without_what_waits_for_its_key()
    {
        await using var crossing = new Crossing(new TPlace());
        await WaitingAsync(crossing, 8, i => Crossing.TapEvent(i, i == 7 ? "a" : null));
        var store = crossing.SharedStore("harbour");
        var rows = (await store.ReadOutboxAsync(3)).Rows;

        var next = await store.ReadOnAsync(rows, 4);
        Assert.Equal(["3", "4", "5", "6"], next.Rows.Select(r => r.Event.Id));
        Assert.True(next.IsFull);
        // The ones before it have not been marked: it would pass them.
        Assert.Empty((await store.ReadOnAsync(next.Rows, 4)).Rows);
        var last = await store.ReadOnAsync([.. rows, .. next.Rows], 4);
        Assert.Equal("7", Assert.Single(last.Rows).Event.Id);
        Assert.False(last.IsFull);
        Assert.Empty((await store.ReadOnAsync([.. rows, .. next.Rows, .. last.Rows], 4)).Rows);

        var term = (await store.LeadAsync("one", TimeSpan.FromMinutes(1)))!.Value;
        await store.MarkAsync(
            term, Crossing.Marks(last.Rows, TimeSpan.FromHours(1), PublishResult.Deferred("not now")));
        await using (var connection = await store.OpenConnectionAsync())
        {
            await using var transaction = await connection.BeginTransactionAsync();
            await store.AddAsync(transaction, [Crossing.TapEvent(8, "a"), Crossing.TapEvent(9)]);
            await transaction.CommitAsync();
        }
        next = await store.ReadOnAsync(rows, 10);
        Assert.Equal(["3", "4", "5", "6", "9"], next.Rows.Select(r => r.Event.Id));
        // What waits among them is not one that was committed late.
        await store.MarkAsync(term, Crossing.Marks(
            [.. rows, .. next.Rows], default, [.. Enumerable.Repeat(PublishResult.Taken, 8)]));
        Assert.Empty((await store.ReadOutboxAsync(10)).Rows);
    }

    /// <summary>More bytes than are read at once: the rest is read behind them.</summary>
    [Fact]
    public async Task What_is_read_behind_a_row_keeps_to_its_bytes()
    {
        await using var crossing = new Crossing(new TPlace());
        await WaitingAsync(crossing, 7, Crossing.LargeEvent);
        var store = crossing.SharedStore("harbour");
        var next = await store.ReadOnAsync((await store.ReadOutboxAsync(1)).Rows, 500);
        Assert.InRange(next.Rows.Count, 1, 5);
        Assert.True(next.IsFull);
        Assert.Equal("1", next.Rows[0].Event.Id);
    }

    /// <summary>Fills the harbour's outbox, of which nobody relays anything yet.</summary>
    private static async Task WaitingAsync(Crossing crossing, int count, Func<int, EncodedEvent>? of = null)
    {
        await crossing.RouteAsync(("test.tap", "taps"));
        var store = crossing.SharedStore("harbour");
        await store.PrepareAsync(create: true);
        await using var connection = await store.OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await store.AddAsync(
            transaction, [.. Enumerable.Range(0, count).Select(of ?? (i => Crossing.TapEvent(i)))]);
        await transaction.CommitAsync();
    }

    private static Task<IHost> StartAsync(Crossing crossing, TimeProvider? clock = null) => crossing.StartAsync(
        "harbour", settings: Small, services: s => s.AddSingleton(clock ?? TimeProvider.System));

    private static Task RelayedAsync(Crossing crossing) => Crossing.UntilAsync(
        async () => (await crossing.SharedStore("harbour").ReadOutboxFiguresAsync()).Waiting == 0, "all are marked");

    private static async Task<List<int>> NumbersAsync(Crossing crossing) =>
        [.. (await crossing.Reports.PeekAsync("taps", 1000)).Select(e => Crossing.NumberOf(e.Json))];
}
