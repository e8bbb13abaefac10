using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>What is cleared away by age, in steps, and by one process at a time.</summary>
public abstract class HousekeepingScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly TimeSpan Minute = TimeSpan.FromMinutes(1), Hour = TimeSpan.FromHours(1);
    private static readonly Chore Inbox = new(ChoreKind.Inbox, null, Hour);

    /// <summary>An event that is handled now.</summary>
    private static async Task HandleAsync(IStorePort store, params InboxEvent[] events)
    {
        await using var handling = await store.BeginHandlingAsync("taps", events);
        await handling!.CommitAsync([]);
    }

    /// <summary>All steps of a round; how many rows went.</summary>
    private static async Task<(int Removed, int Steps)> DoRoundAsync(IHousekeeping house, Chore chore)
    {
        var (removed, steps, from) = (0, 0, (string?)null);
        do
        {
            var step = await house.DoAsync(chore, from);
            (removed, steps, from) = (removed + step.Removed, steps + 1, step.Next);
        }
        while (from is not null);
        return (removed, steps);
    }

    [Fact]
    public async Task What_was_handled_is_forgotten_by_age_and_from_when_on_is_known()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var store = crossing.Store("fares", clock);
        await store.PrepareAsync(create: true);
        var keys = new List<EventKey>();
        for (var minute = 0; minute < 120; minute++)
        {
            // Ids in no order, from sources with anything in their names.
            EventKey key = new(minute % 3 == 0 ? "/a\"b\\ü" : "/t", $"{minute * 7919 % 1000} '{minute}'");
            await HandleAsync(store, new InboxEvent(key.Source, key.Id));
            keys.Add(key);
            clock.Advance(Minute);
        }
        Assert.Null(await store.Inbox.ReadForgottenBeforeAsync());
        Assert.Equal(60, (await DoRoundAsync(store, Inbox)).Removed);
        Assert.Equal(0, (await DoRoundAsync(store, Inbox)).Removed);
        Assert.Equal(clock.GetUtcNow() - Hour, await store.Inbox.ReadForgottenBeforeAsync());
        Assert.Equal(keys.Select((_, minute) => minute >= 60), await store.LookIntoInboxAsync("taps", keys));

        // A longer time than before gives nothing back: it stays said.
        await DoRoundAsync(store, Inbox with { Keep = 2 * Hour });
        Assert.Equal(clock.GetUtcNow() - Hour, await store.Inbox.ReadForgottenBeforeAsync());
    }

    [Fact]
    public async Task A_large_inbox_is_gone_through_in_steps_and_what_is_handled_meanwhile_stays()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var store = crossing.Store("fares", clock);
        await store.PrepareAsync(create: true);
        for (var part = 0; part < 12; part++)
            await HandleAsync(store, [.. Enumerable.Range(0, 1000).Select(i => new InboxEvent("/t", $"{i}-{part}"))]);
        clock.Advance(2 * Hour);
        var (removed, steps, from) = (0, 0, (string?)null);
        do
        {
            var step = await store.AsHousekeeping().DoAsync(Inbox, from);
            await HandleAsync(store, new InboxEvent("/t", $"{steps * 37} new"));
            (removed, steps, from) = (removed + step.Removed, steps + 1, step.Next);
        }
        while (from is not null);
        Assert.InRange(steps, 2, 100);
        Assert.Equal((12_000, steps), (removed, (await store.Inbox.ReadAsync("taps")).Count));
    }

    [Fact]
    public async Task A_chore_is_one_keepers_until_it_ends_or_dies_and_is_done_no_more_often_than_need_be()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var (store, broker) = (crossing.Store("fares", clock), crossing.AnotherBroker(clock));
        await store.PrepareAsync(create: true);
        await broker.PrepareAsync(new Topology(["taps"], []), create: true);
        foreach (var house in new[] { store, broker.Housekeeping! })
        {
            Assert.True(await TakeAsync("one"));
            Assert.False(await TakeAsync("two"));
            Assert.True(await TakeAsync("one"));
            // Another chore is another's.
            Assert.True(await house.TakeAsync(Inbox with { Queue = "other" }, "two", Minute, 3 * Minute));
            // It dies; the other takes over when its lease has ended, and gives it back undone.
            clock.Advance(Minute + Minute);
            Assert.True(await TakeAsync("two"));
            await house.EndAsync(Inbox, "one", isDone: true);
            Assert.False(await TakeAsync("one"));
            await house.EndAsync(Inbox, "two", isDone: false);
            Assert.True(await TakeAsync("one"));
            await house.EndAsync(Inbox, "one", isDone: true);
            clock.Advance(2 * Minute);
            Assert.False(await TakeAsync("two"));
            clock.Advance(Minute);
            Assert.True(await TakeAsync("two"));
            await house.EndAsync(Inbox, "two", isDone: true);

            Task<bool> TakeAsync(string keeper) => house.TakeAsync(Inbox, keeper, Minute, 3 * Minute);
        }
    }

    [Fact]
    public async Task A_clock_that_was_set_back_by_a_day_does_not_keep_a_chore_from_being_done()
    {
        await using var crossing = new Crossing(new TPlace());
        var morning = DateTimeOffset.Parse("2031-06-14T06:00:00Z");
        var store = crossing.Store("fares", new FakeTimeProvider(morning));
        await store.PrepareAsync(create: true);
        Assert.True(await store.TakeAsync(Inbox, "one", Minute, Hour));
        await store.EndAsync(Inbox, "one", isDone: true);
        Assert.True(await store.TakeAsync(Inbox with { Queue = "other" }, "one", Minute, Hour));
        var back = crossing.Store("fares", new FakeTimeProvider(morning.AddDays(-1)));
        Assert.True(await back.TakeAsync(Inbox, "two", Minute, Hour));
        Assert.True(await back.TakeAsync(Inbox with { Queue = "other" }, "two", Minute, Hour));
    }

    [Fact]
    public async Task Refused_events_and_letters_go_by_age_and_nothing_else_does()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"), ("test.charged", "charges"));
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var (store, broker) = (crossing.Store("harbour", clock), crossing.AnotherBroker(clock));
        await store.PrepareAsync(create: true);
        for (var hour = 0; hour < 3; hour++)
        {
            await RefuseAndHoldAsync(store, hour);
            await broker.PublishAsync([Crossing.TapEvent(hour), Crossing.ChargedEvent(hour)]);
            await RejectAsync(broker, "taps");
            await RejectAsync(broker, "charges");
            clock.Advance(Hour);
        }
        Assert.Equal(2, (await DoRoundAsync(store, new(ChoreKind.Refused, null, Hour * 1.5))).Removed);
        Assert.Equal(["held 0", "held 1", "held 2", "refused 2"],
            (await store.Held.ReadHeldAsync(10)).Select(h => h.Id).Order());
        Assert.Equal(2, (await DoRoundAsync(
            broker.Housekeeping!, new(ChoreKind.DeadLetters, "taps", Hour * 1.5))).Removed);
        var figures = (await broker.Reports!.ReadFiguresAsync()).Queues;
        Assert.Equal([("charges", 3), ("taps", 1)], figures.Select(f => (f.Queue, (int)f.DeadLetters!)));
        Assert.Equal(2, Crossing.NumberOf((await broker.DeadLetters!.ReadAsync("taps", 9)).Single().Json));
        await Assert.ThrowsAsync<ArgumentException>(() => broker.Housekeeping!.DoAsync(Inbox, null));
        await Assert.ThrowsAsync<ArgumentException>(
            () => store.AsHousekeeping().DoAsync(new(ChoreKind.DeadLetters, "taps", Hour), null));
    }

    /// <summary>A month later, as the services do it themselves.</summary>
    [Fact]
    public async Task A_service_clears_away_by_itself_and_a_second_copy_that_comes_in_time_still_does_not_act()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var store = crossing.Store("fares", clock);
        await store.PrepareAsync(create: true);
        await HandleAsync(store, new InboxEvent("/t", "1"));
        await crossing.AnotherBroker(clock).PublishAsync([Crossing.TapEvent(7)]);
        await RejectAsync(crossing.AnotherBroker(clock), "taps");
        clock.Advance(TimeSpan.FromDays(20));
        await HandleAsync(store, new InboxEvent("/t", "2"));
        clock.Advance(TimeSpan.FromDays(11));

        var log = new Log();
        await crossing.StartAsync(
            "fares",
            courier => courier.Receive("taps", queue =>
            {
                queue.Options.KeepDeadLetters = TimeSpan.FromDays(30);
                queue.Handle<Tap, TapReceiver>();
            }),
            services: services => services.AddSingleton<TimeProvider>(clock).AddSingleton(log));
        await Crossing.UntilAsync(
            async () => (await store.Inbox.ReadAsync("taps")).Count == 1, "the old one is forgotten");
        await Crossing.UntilAsync(
            async () => (await crossing.FiguresAsync("taps")).DeadLetters == 0, "the old letter is gone");
        await crossing.AnotherBroker(clock).PublishAsync([Crossing.TapEvent(2), Crossing.TapEvent(3)]);
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Waiting == 0, "both are settled");
        Assert.Equal(3, Assert.Single(log.Taps).Data.Number);
    }

    private static async Task RejectAsync(IBroker broker, string queue)
    {
        await using var link = await broker.OpenLinkAsync(queue, "w", Minute);
        var taken = await link.ReceiveAsync(1, CancellationToken.None).WaitAsync(Crossing.Limit);
        await link.SettledAsync([new(taken[0], new Outcome.Rejected("no", null))]);
    }

    private static async Task RefuseAndHoldAsync(IStorePort store, int hour)
    {
        await using (var connection = await store.OpenConnectionAsync())
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            await store.AddAsync(transaction, [new($"refused {hour}", "t", null, "{}"u8.ToArray()),
                new($"held {hour}", "t", null, "{}"u8.ToArray())]);
            await transaction.CommitAsync();
        }
        var term = (await store.LeadAsync("one", TimeSpan.FromDays(1)))!.Value;
        var rows = (await store.ReadOutboxAsync(10)).Rows;
        await store.MarkAsync(term, Crossing.Marks(
            rows, TimeSpan.FromDays(9), PublishResult.Refused("no"), PublishResult.Deferred("not yet")));
    }

    /// <summary>Twenty that wait and two letters go past the library, as by somebody who helps himself.</summary>
    private static async Task DeleteAsync(Crossing crossing)
    {
        await using var connection = await crossing.OpenBrokerAsync();
        string[] statements = crossing.BrokerAddress.StartsWith("sqlite:", StringComparison.Ordinal)
            ? ["DELETE FROM courier_copy WHERE id IN (SELECT copy FROM courier_place LIMIT 20)",
                "DELETE FROM courier_place WHERE copy NOT IN (SELECT id FROM courier_copy)",
                "DELETE FROM courier_dead_letter WHERE id IN (SELECT id FROM courier_dead_letter LIMIT 2)"]
            : ["DELETE FROM courier.copy WHERE id IN (SELECT id FROM courier.copy WHERE until IS NULL LIMIT 20)",
                "DELETE FROM courier.dead_letter WHERE id IN (SELECT id FROM courier.dead_letter LIMIT 2)"];
        foreach (var statement in statements) await connection.ExecuteAsync(statement);
    }

    private static async Task<(IBroker Broker, IReceivingLink Link)> FillAsync(Crossing crossing)
    {
        await crossing.RouteAsync(("test.tap", "taps"), ("test.charged", "charges"));
        var broker = crossing.Broker();
        await broker.PublishAsync([.. Enumerable.Range(0, 50).Select(i => Crossing.TapEvent(i))]);
        var link = await broker.OpenLinkAsync("taps", "w", Hour);
        var taken = await link.ReceiveAsync(10, CancellationToken.None).WaitAsync(Crossing.Limit);
        await link.SettledAsync([.. taken.Select((delivery, i) => new Settlement(delivery,
            i < 5 ? new Outcome.Rejected("no pier", null) : new Outcome.Modified(Hour, "later")))]);
        await link.ReceiveAsync(3, CancellationToken.None).WaitAsync(Crossing.Limit);
        return (broker, link);
    }

    [Fact]
    public async Task Counts_that_somebody_has_made_wrong_are_mended_while_events_come_and_go()
    {
        await using var crossing = new Crossing(new TPlace());
        var (broker, link) = await FillAsync(crossing);
        await using var end = link;
        var recount = broker.Services.Recount!;
        Assert.Empty(await recount.RecountAsync(Crossing.Limit));
        await DeleteAsync(crossing);
        Assert.Equal((37, 5, 3), await FiguresAsync());
        Assert.InRange(await recount.EstimateRowsAsync(), 0, 100);

        using var ending = new CancellationTokenSource();
        var traffic = Task.WhenAll(Enumerable.Range(0, 4).Select(n => Task.Run(() => ComeAndGoAsync(n))));
        var counted = new List<Recounted>();
        for (var round = 0; round < 20; round++) counted.AddRange(await recount.RecountAsync(Crossing.Limit));
        await ending.CancelAsync();
        await traffic;
        Assert.Equal(new Recounted("taps", -20, -2), Assert.Single(counted));
        Assert.Equal((17, 3, 3), await FiguresAsync());
        Assert.Empty(await recount.RecountAsync(Crossing.Limit));
        Assert.Equal((0L, 0L), ((await crossing.FiguresAsync("charges")).Ready, (await crossing.FiguresAsync(
            "charges")).InHand));

        async Task<(long Ready, long Dead, long InHand)> FiguresAsync()
        {
            var figures = await crossing.FiguresAsync("taps");
            Assert.Equal(5, figures.Scheduled);
            return (figures.Ready!.Value, figures.DeadLetters!.Value, figures.InHand!.Value);
        }

        async Task ComeAndGoAsync(int who)
        {
            await using var going = await broker.OpenLinkAsync("charges", $"w{who}", Hour);
            for (var number = 0; !ending.IsCancellationRequested; number++)
            {
                await broker.PublishAsync([Crossing.ChargedEvent((who * 100_000) + number)]);
                var taken = await going.ReceiveAsync(1, CancellationToken.None).WaitAsync(Crossing.Limit);
                await going.SettledAsync([new(taken[0], Outcome.Accepted)]);
            }
        }
    }

    [Fact]
    public async Task A_worker_mends_them_by_itself_and_says_so()
    {
        await using var crossing = new Crossing(new TPlace());
        var (_, link) = await FillAsync(crossing);
        await using var end = link;
        await DeleteAsync(crossing);
        var reports = new Reports();
        await crossing.StartAsync(
            "fares", c => c.Receive("charges", q => q.Handle<Charged, Ignoring>()),
            services: s => s.AddSingleton<Microsoft.Extensions.Logging.ILoggerFactory>(reports));
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 17, DeadLetters: 3 }, "they are mended");
        await Crossing.UntilAsync(
            () => Task.FromResult(reports.Lines.Any(l => l.StartsWith("Queue taps of ", StringComparison.Ordinal)
                && l.Contains("has 20 events fewer and 2 dead letters fewer than", StringComparison.Ordinal))),
            "it says so");
    }

    private sealed class Ignoring : IReceiver<Charged>
    {
        public Task HandleAsync(Delivery<Charged> delivery, CancellationToken cancellationToken) => Task.CompletedTask;
    }
}

file static class Houses
{
    public static IHousekeeping AsHousekeeping(this IStorePort store) => store;
}
