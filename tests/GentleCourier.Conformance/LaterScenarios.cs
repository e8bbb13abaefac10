using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Conformance;

/// <summary>Events for later: they wait in nobody's way, and can be looked at, moved and cancelled.</summary>
public abstract class LaterScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly DueTime Tomorrow = DueTime.In(TimeSpan.FromDays(1)), Now = DueTime.In(TimeSpan.Zero);

    private static EventDraft Tap(int number, DueTime? due = null, string? key = null) =>
        EventDraft.Of(new Tap(number), new() { PartitionKey = key, Id = $"tap-{number}", Due = due });

    private static ILaterEvents Later(IHost host) => host.Services.GetRequiredService<ILaterEvents>();

    private static async Task<(IHost Harbour, Log Log)> StartAsync(Crossing crossing)
    {
        var log = new Log();
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        return (await crossing.StartAsync("harbour"), log);
    }

    private static Task HandledAsync(Log log, params int[] numbers) => Crossing.UntilAsync(
        () => Task.FromResult(log.Taps.Count >= numbers.Length), $"{string.Join(", ", numbers)} are handled");

    private static int[] Numbers(Log log) => [.. log.Taps.Select(t => t.Data.Number)];

    [Fact]
    public async Task It_waits_uncounted_passes_nobody_by_and_leaves_when_it_is_due()
    {
        await using var crossing = new Crossing(new TPlace());
        var (harbour, log) = await StartAsync(crossing);
        await harbour.PublishAsync(Tap(1, Tomorrow, "card-7"), Tap(2, key: "card-7"));
        await HandledAsync(log, 2);
        // It may be handled before its relay has forgotten it.
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Waiting == 0, "what has left is not counted");
        var figures = await harbour.Store().ReadOutboxFiguresAsync();
        Assert.Equal(1, figures.Later);
        Assert.InRange(figures.NextDueIn!.Value.TotalHours, 23, 24);

        var waiting = Assert.Single(await Later(harbour).ListAsync());
        Assert.Equal(("tap-1", "test.tap", "card-7"), (waiting.Id, waiting.Type, waiting.PartitionKey));
        Assert.InRange((waiting.Due - waiting.Added).TotalHours, 23.9, 24.1);

        Assert.Equal(1, await Later(harbour).MoveAsync(new LaterFilter { Id = "tap-1" }, Now));
        await HandledAsync(log, 2, 1);
        Assert.Equal([2, 1], Numbers(log));
        // What happened then happened then, also for those who count its age.
        Assert.InRange(log.Taps.Last().Event.Time!.Value - waiting.Added, TimeSpan.Zero, TimeSpan.FromMinutes(2));
        Assert.Equal(0, (await harbour.Store().ReadOutboxFiguresAsync()).Later);
    }

    [Fact]
    public async Task What_is_due_soon_leaves_by_itself_in_the_order_in_which_it_is_due()
    {
        await using var crossing = new Crossing(new TPlace());
        var (harbour, log) = await StartAsync(crossing);
        var at = DateTimeOffset.UtcNow.AddMilliseconds(400);
        // Ordered by its key, which counts from when each is due.
        await harbour.PublishAsync(
            [.. Enumerable.Range(0, 10).Select(i => Tap(i, DueTime.At(at.AddMilliseconds(-20 * i)), "card-7"))]);
        await HandledAsync(log, [.. Enumerable.Range(0, 10)]);
        Assert.Equal(Enumerable.Range(0, 10).Reverse(), Numbers(log));
        Assert.All(log.Taps, t => Assert.True(DateTimeOffset.UtcNow > t.Event.Time));
    }

    [Fact]
    public async Task It_is_added_moved_and_cancelled_with_the_business_change_or_not_at_all()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        var (outbox, later) = (harbour.Services.GetRequiredService<IOutbox>(), Later(harbour));
        await using var connection = await harbour.Store().OpenConnectionAsync();
        await using (var undone = await connection.BeginTransactionAsync())
        {
            await outbox.AddManyAsync(undone, [Tap(1, Tomorrow), Tap(2)]);
            Assert.Equal("tap-1", Assert.Single(await later.ListAsync(transaction: undone)).Id);
            await undone.RollbackAsync();
        }
        Assert.Empty(await later.ListAsync());

        await using (var done = await connection.BeginTransactionAsync())
        {
            await outbox.AddAsync(done, new Tap(3), new() { Id = "tap-3", Due = Tomorrow, PartitionKey = "card-7" });
            await outbox.AddAsync(done, new Tap(4), new() { Id = "tap-4", Due = Tomorrow, PartitionKey = "card-7" });
            await outbox.AddAndCommitAsync(done, new Tap(5), new() { Id = "tap-5", Due = Tomorrow });
        }
        Assert.Equal(["tap-3", "tap-4", "tap-5"], (await later.ListAsync()).Select(e => e.Id).Order());

        await using (var undone = await connection.BeginTransactionAsync())
        {
            Assert.Equal(2, await later.CancelAsync(new LaterFilter { PartitionKey = "card-7" }, undone));
            Assert.Equal(1, await later.MoveAsync(new LaterFilter { Id = "tap-5" }, Now, undone));
            Assert.Equal("tap-5", Assert.Single(await later.ListAsync(transaction: undone)).Id);
            await undone.RollbackAsync();
        }
        Assert.All(await later.ListAsync(), e => Assert.True(e.Due > e.Added.AddHours(1)));

        await using (var done = await connection.BeginTransactionAsync())
        {
            Assert.Equal(2, await later.CancelAsync(new LaterFilter { PartitionKey = "card-7" }, done));
            await done.CommitAsync();
        }
        Assert.Equal("tap-5", Assert.Single(await later.ListAsync()).Id);
        Assert.Equal(1, await later.CancelAsync(new LaterFilter { Id = "tap-5", Type = "test.tap" }));
        Assert.Equal(0, await later.CancelAsync(new LaterFilter { Id = "tap-5" }));
        await Assert.ThrowsAsync<ArgumentException>(() => later.CancelAsync(new LaterFilter()));
    }

    /// <summary>Between reading what is to be moved and moving it, another cancels it and adds its id anew.</summary>
    [Fact]
    public async Task What_was_added_in_the_place_of_an_event_is_not_moved_in_its_name()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        var store = harbour.Store();
        await harbour.PublishAsync(Tap(1, Tomorrow));
        var read = await store.LaterEvents.ReadAsync(new() { Id = "tap-1" }, 10, null, null, default);
        Assert.Equal(1, await Later(harbour).CancelAsync(new LaterFilter { Id = "tap-1" }));
        await harbour.PublishAsync(EventDraft.Of(new Tap(99), new() { Id = "tap-1", Due = Tomorrow }));
        Assert.Equal(0, await store.LaterEvents.MoveAsync(read, DateTimeOffset.UtcNow, byClock: true, null, default));
        var there = Assert.Single(await Later(harbour).ListAsync());
        Assert.Equal(99, Crossing.NumberOf(there.Json));
    }

    [Fact]
    public async Task Once_it_is_due_it_is_too_late_to_cancel_it_and_a_term_that_is_over_moves_nothing()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        var store = harbour.Store();
        await harbour.PublishAsync(
            Tap(1, Now), Tap(2, DueTime.At(DateTimeOffset.UtcNow.AddYears(-1))), Tap(3, Tomorrow));
        var first = await store.LeadAsync("first", TimeSpan.FromMinutes(1));
        await store.ResignAsync(first!.Value);
        Assert.Equal(0, (await store.Later.MoveDueAsync(first.Value, 10, [])).Moved);

        var term = (await store.LeadAsync("second", TimeSpan.FromMinutes(1)))!.Value;
        var step = await store.Later.MoveDueAsync(term, 1, []);
        Assert.Equal(1, step.Moved);
        Assert.InRange(step.Late.TotalDays, 364, 367);
        Assert.Equal(1, (await store.Later.MoveDueAsync(term, 10, [])).Moved);
        var nothing = await store.Later.MoveDueAsync(term, 10, []);
        Assert.Equal(0, nothing.Moved);
        Assert.InRange(nothing.NextIn!.Value.TotalHours, 23, 24);
        Assert.Equal(0, await Later(harbour).CancelAsync(new LaterFilter { Id = "tap-1" }));
        Assert.Equal(["tap-2", "tap-1"], (await store.ReadOutboxAsync(10)).Rows.Select(r => r.Event.Id));
        Assert.Equal("tap-3", Assert.Single(await Later(harbour).ListAsync()).Id);
    }

    [Fact]
    public async Task A_long_list_is_read_in_steps_and_moved_as_a_whole()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        var first = DateTimeOffset.UnixEpoch.AddYears(100);
        await harbour.PublishAsync([.. Enumerable.Range(0, 1000).Select(
            i => Tap(i, DueTime.At(first.AddSeconds(i / 3)), i % 2 == 0 ? "even" : "odd"))]);
        var read = new List<LaterEvent>();
        while (await Later(harbour).ListAsync(limit: 70, after: read.LastOrDefault()) is { Count: > 0 } some)
            read.AddRange(some);
        Assert.Equal(Enumerable.Range(0, 1000).Select(i => $"tap-{i}"), read.Select(e => e.Id));

        var time = first.AddSeconds(100.5);
        Assert.Equal(500, await Later(harbour).MoveAsync(new LaterFilter { PartitionKey = "even" }, DueTime.At(time)));
        var moved = await Later(harbour).ListAsync(new LaterFilter { PartitionKey = "even" }, limit: 1000);
        Assert.Equal(500, moved.Count);
        Assert.All(moved, e => Assert.Equal((time, time), (e.Due, e.Read().Time)));
    }

    [Fact]
    public async Task The_first_and_the_last_of_all_times_stop_nobody()
    {
        Assert.Throws<ArgumentOutOfRangeException>(() => DueTime.In(TimeSpan.FromTicks(-1)));
        Assert.Throws<ArgumentOutOfRangeException>(() => DueTime.In(TimeSpan.FromDays(40_000)));
        await using var crossing = new Crossing(new TPlace());
        var (harbour, log) = await StartAsync(crossing);
        await harbour.PublishAsync(
            Tap(1, DueTime.At(DateTimeOffset.MaxValue)), Tap(2, DueTime.At(DateTimeOffset.MinValue)),
            Tap(3, DueTime.In(DueTime.MaxDelay)));
        await HandledAsync(log, 2);
        Assert.Equal(["tap-3", "tap-1"], (await Later(harbour).ListAsync()).Select(e => e.Id));
        await harbour.PublishAsync(Tap(4, Now));
        await HandledAsync(log, 2, 4);
    }
}
