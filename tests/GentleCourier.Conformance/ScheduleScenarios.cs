using System.Data.Common;
using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Publishing;
using GentleCourier.Scheduling;
using GentleCourier.Tables;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging.Abstractions;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>Recurring events: each firing once, whoever runs; and what can be done with a schedule by hand.</summary>
public abstract class ScheduleScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly Dictionary<string, string?> NoRelay = new() { ["Courier:Relay:Enabled"] = "false" };

    private static ISchedules Of(IHost host) => host.Services.GetRequiredService<ISchedules>();

    private static Action<CourierBuilder> Daily(string cron, int tap = 1) => c => c.Schedule(
        "closing", new Tap(tap), s => (s.Cron, s.TimeZone) = (cron, "Europe/Lisbon"));

    private static async Task<EventSchedule> DeclaredAsync(IHost host, string cron)
    {
        EventSchedule? found = null;
        await Crossing.UntilAsync(
            async () => (found = (await Of(host).ListAsync()).SingleOrDefault()) is { DeclaredAge: not null }
                && found.Declared.Cron == cron, $"{cron} is declared");
        return found!;
    }

    [Fact]
    public async Task However_many_instances_run_each_second_fires_once()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log();
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        for (var i = 0; i < 3; i++)
            await crossing.StartAsync(
                "harbour", c => c.Schedule("tick", new Tap(7), s => s.Every = TimeSpan.FromSeconds(1)));
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count >= 3), "three have come");
        var times = log.Taps.Select(t => t.Event.Time!.Value).ToList();
        Assert.Equal(Enumerable.Range(0, times.Count).Select(i => times[0].AddSeconds(i)), times);
        Assert.All(log.Taps, t =>
        {
            Assert.Equal($"tick@{t.Event.Time:yyyy-MM-dd'T'HH:mm:ss}Z", t.Event.Id);
            Assert.Equal(("/test/harbour", 7), (t.Event.Source, t.Data.Number));
        });
    }

    [Fact]
    public async Task Its_row_and_its_events_are_written_together_by_whoever_is_first()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", Daily("0 23 * * *"), NoRelay);
        await DeclaredAsync(harbour, "0 23 * * *");
        var store = harbour.Store();
        var row = (await store.Schedules.ReadAsync(dueOnly: false)).Rows.Single();
        EncodedEvent[] events = [Crossing.TapEvent(1), Crossing.TapEvent(2)];
        var wins = await Task.WhenAll(Enumerable.Range(0, 8).Select(_ => store.Schedules.SaveAsync(row, events)));
        Assert.Single(wins, w => w);
        Assert.False(await store.Schedules.SaveAsync(row with { }, events));
        Assert.False(await store.Schedules.SaveAsync(new ScheduleRow(row.Name, 0)
        {
            Type = "t", Template = row.Template, Rule = "{}", DeclaredRule = "{}", Declaration = "",
        }, events));
        Assert.False(await store.Schedules.RemoveAsync(row));
        Assert.Equal(["1", "2"], (await store.ReadOutboxAsync(10)).Rows.Select(r => r.Event.Id));
    }

    [Fact]
    public async Task It_is_looked_at_paused_fired_and_changed_by_hand()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", Daily("0 23 * * *"), NoRelay);
        var declared = await DeclaredAsync(harbour, "0 23 * * *");
        Assert.Equal(5, declared.Firings.Count);
        Assert.All(declared.Firings, f => Assert.Equal(23, f.Hour));
        Assert.Equal(declared.Firings[0], declared.Due);

        await Of(harbour).PauseAsync("closing");
        var paused = Assert.Single(await Of(harbour).ListAsync());
        Assert.Equal((null, true, 5), (paused.Due, paused.PausedSince is not null, paused.Firings.Count));
        var id = await Of(harbour).FireAsync("closing");
        Assert.Equal(id, Assert.Single((await harbour.Store().ReadOutboxAsync(10)).Rows).Event.Id);
        Assert.StartsWith("closing@", id, StringComparison.Ordinal);
        await Of(harbour).ResumeAsync("closing");

        await Of(harbour).ChangeAsync("closing", o => (o.Cron, o.Missed) = ("30 22 * * 1-5", Missed.Each));
        var changed = Assert.Single(await Of(harbour).ListAsync());
        Assert.Equal(("30 22 * * 1-5", "0 23 * * *", Missed.Each, Missed.Once),
            (changed.Options.Cron, changed.Declared.Cron, changed.Options.Missed, changed.Declared.Missed));
        Assert.NotNull(changed.ChangedSince);
        Assert.All(changed.Firings, f => Assert.Equal((22, 30), (f.Hour, f.Minute)));

        var wrong = await Assert.ThrowsAsync<CourierException>(
            () => Of(harbour).ChangeAsync("closing", o => o.Cron = "61 * * * *"));
        Assert.Contains("'61 * * * *' is not a cron expression", wrong.Message, StringComparison.Ordinal);
        var none = await Assert.ThrowsAsync<CourierException>(() => Of(harbour).PauseAsync("opening"));
        Assert.Contains("there is closing", none.Message, StringComparison.Ordinal);
        var alive = await Assert.ThrowsAsync<CourierException>(() => Of(harbour).RemoveAsync("closing"));
        Assert.Contains("is declared by a process", alive.Message, StringComparison.Ordinal);

        await Of(harbour).RestoreAsync("closing");
        Assert.Equal(("0 23 * * *", null),
            (Assert.Single(await Of(harbour).ListAsync()) is var back ? back.Options.Cron : null, back.ChangedSince));
    }

    /// <summary>
    /// A change by hand stands over restarts and beside the older version; a new declaration ends it.
    /// </summary>
    [Fact]
    public async Task A_change_by_hand_stands_until_the_declaration_is_another_one_also_while_two_versions_run()
    {
        await using var crossing = new Crossing(new TPlace());
        var old = await crossing.StartAsync("harbour", Daily("0 23 * * *"), NoRelay);
        await DeclaredAsync(old, "0 23 * * *");
        await Of(old).ChangeAsync("closing", o => o.Cron = "0 21 * * *");
        var first = Assert.Single(await old.Store().Schedules.ReadDeclarationsAsync()).Declaration;
        await RestartAsync();
        Assert.Equal("0 21 * * *", Assert.Single(await Of(old).ListAsync()).Options.Cron);

        var @new = await crossing.StartAsync("harbour", Daily("0 22 * * *"), NoRelay);
        await DeclaredAsync(@new, "0 22 * * *");
        Assert.Equal(("0 22 * * *", null),
            (Assert.Single(await Of(old).ListAsync()) is var row ? row.Options.Cron : null, row.ChangedSince));
        await Of(old).ChangeAsync("closing", o => o.Cron = "0 20 * * *");
        await RestartAsync();
        Assert.Equal(("0 20 * * *", "0 22 * * *"),
            (Assert.Single(await Of(old).ListAsync()) is var kept ? kept.Options.Cron : null, kept.Declared.Cron));

        // Another instance of the older version starts, declares what it does, and ends.
        async Task RestartAsync()
        {
            var began = Stopwatch.GetTimestamp();
            var host = await crossing.StartAsync("harbour", Daily("0 23 * * *"), NoRelay);
            await Crossing.UntilAsync(
                async () => (await host.Store().Schedules.ReadDeclarationsAsync())
                    .Single(d => d.Declaration == first).Age < Stopwatch.GetElapsedTime(began),
                "it has declared");
            await host.StopAsync();
        }
    }

    [Theory]
    [InlineData("Schedules:closing:Type", "test.tap", "Data as a text of JSON")]
    [InlineData("Schedules:closing:Subject", "x", "takes both a Type, and its Data")]
    [InlineData("Schedules:closing:Crn", "0 23 * *", "Courier:Schedules:closing:Crn is not a setting")]
    public async Task Settings_alone_can_declare_one_and_say_what_they_lack(string name, string value, string problem)
    {
        await using var crossing = new Crossing(new TPlace());
        Dictionary<string, string?> settings = new(NoRelay)
        {
            [$"Courier:{name}"] = value,
        };
        var wrong = await Assert.ThrowsAnyAsync<Exception>(
            () => crossing.StartAsync("harbour", settings: settings));
        Assert.Contains(problem, wrong.Message, StringComparison.Ordinal);

        settings = new(NoRelay)
        {
            ["Courier:Schedules:closing:Type"] = "test.tap",
            ["Courier:Schedules:closing:Data"] = """{"number":9}""",
            ["Courier:Schedules:closing:Cron"] = "0 23 * * *",
            ["Courier:Schedules:closing:PartitionKey"] = "card-7",
        };
        var harbour = await crossing.StartAsync("harbour", settings: settings);
        await DeclaredAsync(harbour, "0 23 * * *");
        await Of(harbour).FireAsync("closing");
        var row = Assert.Single((await harbour.Store().ReadOutboxAsync(10)).Rows);
        Assert.Equal((9, "card-7"), (Crossing.NumberOf(row.Event.Json), row.Event.PartitionKey));
    }

    [Fact]
    public async Task One_that_cannot_be_reckoned_here_keeps_no_other_from_firing()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var store = crossing.SharedStore("harbour");
        await store.PrepareAsync(create: true);
        var past = DateTimeOffset.UtcNow.AddMinutes(-5);
        foreach (var (name, rule) in new[] { ("a", "{\"missed\":\"Twice\"}"), ("b", "{\"cron\":\"* * * * *\","
            + "\"timeZone\":\"Sea/Longsand\"}") })
        {
            Assert.True(await store.Schedules.SaveAsync(
                new ScheduleRow(name, 0)
                {
                    Type = "test.tap", Template = Crossing.TapEvent(1).Json, Rule = rule, DeclaredRule = rule,
                    Declaration = "1", Next = past, Due = past,
                }, []));
        }
        var log = new Log();
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        var harbour = await crossing.StartAsync(
            "harbour", c => c.Schedule("tick", new Tap(7), s => s.Every = TimeSpan.FromSeconds(1)));
        await harbour.PublishAsync(
            EventDraft.Of(new Tap(2), new() { Due = DueTime.In(TimeSpan.FromMilliseconds(10)) }));
        await Crossing.UntilAsync(
            () => Task.FromResult(log.Taps.Any(t => t.Data.Number == 7) && log.Taps.Any(t => t.Data.Number == 2)),
            "what can fire has, and what is due is there");
        var listed = await Of(harbour).ListAsync();
        Assert.Contains("cannot be read here", listed[0].Problem, StringComparison.Ordinal);
        Assert.Contains("'Sea/Longsand' is not known on this host", listed[1].Problem, StringComparison.Ordinal);
        Assert.Null(listed[2].Problem);
        // Nor does anything wait for it: what is due next is what can fire.
        using var lead = new Lead(store, "", TimeSpan.FromMinutes(1), TimeProvider.System, NullLogger.Instance);
        var keeper = new Timekeeper(store, lead, TimeProvider.System, NullLogger.Instance);
        await keeper.StepAsync(0, default);
        Assert.True((await keeper.StepAsync(0, default)).ScheduleIn > TimeSpan.FromSeconds(-2));
        var found = (await harbour.Store().ReadOutboxFiguresAsync()).NextDueIn;
        Assert.True(found < TimeSpan.FromMinutes(-4));
        Assert.Contains(
            Findings.Of("harbour", await harbour.Store().ReadOutboxFiguresAsync()), f => f.Code == "due-late");
    }

    /// <summary>
    /// Five instances over eighty days, in which clocks are set forward, or back, some are killed before or after
    /// they have written, all are away for hours, and each comes back.
    /// </summary>
    [Theory]
    [InlineData(3)]
    [InlineData(9)]
    public async Task Over_eighty_days_with_kills_each_firing_is_there_exactly_once(int month)
    {
        await using var crossing = new Crossing(new TPlace());
        var random = new Random(month);
        var start = new DateTimeOffset(2026, month, 1, 0, 10, 0, TimeSpan.Zero);
        var clock = new FakeTimeProvider(start);
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        (string Name, string Cron)[] declared = [("hourly", "0 * * * *"), ("in-the-gap", "30 1 * * *"),
            ("late", "15 23 * * *"), ("often", "*/20 1-2 * * *")];
        foreach (var (name, cron) in declared)
        {
            var options = new ScheduleOptions
            {
                Cron = cron, TimeZone = "Europe/Lisbon", Missed = Missed.Each, MaxMissed = 1000,
                Jitter = TimeSpan.FromMinutes(random.Next(3)),
            };
            var rule = options.Rule.ToJson();
            var row = new ScheduleRow(name, 0)
            {
                Type = "test.tap", Template = Crossing.TapEvent(0).Json, Rule = rule, DeclaredRule = rule,
                Declaration = "1",
            };
            Assert.True(await store.Schedules.SaveAsync(Schedules.WithNext(row, options.Rule, start, 0), []));
        }

        var instances = Enumerable.Range(0, 5).Select(i => Instance(store, clock, $"i{i}", random)).ToArray();
        for (var end = start.AddDays(80); clock.GetUtcNow() < end;)
        {
            // Mostly minutes pass, and now and then all are away for most of a day.
            clock.Advance(random.Next(40) == 0 ? TimeSpan.FromHours(random.Next(1, 20))
                : TimeSpan.FromMinutes(random.Next(1, 60)));
            await Task.WhenAll(Enumerable.Range(0, random.Next(1, 3)).Select(
                _ => TurnOfOneAsync(instances, store, clock, random)));
        }
        var last = clock.GetUtcNow();
        clock.Advance(TimeSpan.FromHours(1));
        await QuietAsync(store, clock);
        var fired = await FiredAsync(store);
        Assert.Equal(fired.Count, fired.Distinct().Count());
        var until = last.AddMinutes(30);
        Assert.Equal(
            declared.SelectMany(d => Expected(d.Cron, start, until).Select(t => Id(d.Name, t)))
                .Order(StringComparer.Ordinal),
            fired.Where(id => TimeOf(id) <= until).Order(StringComparer.Ordinal));
    }

    /// <summary>All are away over a firing; whoever is back first changes the schedule, before a relay runs.</summary>
    [Theory]
    [InlineData("change")]
    [InlineData("restore")]
    [InlineData("pause")]
    [InlineData("declare")]
    public async Task What_has_come_due_is_not_lost_to_what_is_written_in_its_place(string way)
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(new DateTimeOffset(2026, 6, 14, 12, 0, 0, TimeSpan.Zero));
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        var book = new ScheduleBook(store);
        var night = new ScheduleOptions { Cron = "0 23 * * *", TimeZone = "UTC", Missed = Missed.Once };
        await DeclareAsync(store, "closing", night, "1", clock);
        if (way == "restore") await book.ChangeAsync("closing", o => o.Cron = "0 22 * * *");
        clock.Advance(TimeSpan.FromHours(18));
        switch (way)
        {
            case "change": await book.ChangeAsync("closing", o => o.Cron = "0 21 * * *"); break;
            case "restore": await book.RestoreAsync("closing"); break;
            case "pause": await book.PauseAsync("closing"); break;
            default: await DeclareAsync(store, "closing", new() { Cron = "0 7 * * *", TimeZone = "UTC" }, "2", clock);
                break;
        }
        await DeclareAsync(store, "closing", night, "3", clock);
        var hour = way == "restore" ? 22 : 23;
        Assert.Equal(
            [Id("closing", new DateTimeOffset(2026, 6, 14, hour, 0, 0, TimeSpan.Zero))], await FiredAsync(store));
    }

    /// <summary>Jitter puts off when it leaves, and not when it fires.</summary>
    [Fact]
    public async Task What_is_put_off_by_jitter_leaves_with_a_change_and_stays_with_a_pause()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(new DateTimeOffset(2026, 6, 14, 12, 0, 0, TimeSpan.Zero));
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        var book = new ScheduleBook(store);
        foreach (var name in new[] { "changed", "paused" })
        {
            var options = new ScheduleOptions
            {
                Cron = "0 13 * * *", TimeZone = "UTC", Jitter = TimeSpan.FromMinutes(10),
            };
            await DeclareAsync(store, name, options, "1", clock, random: 0.9);
        }
        clock.Advance(TimeSpan.FromMinutes(65));
        await book.ChangeAsync("changed", o => o.Cron = "0 14 * * *");
        await book.PauseAsync("paused");
        clock.Advance(TimeSpan.FromMinutes(10));
        await QuietAsync(store, clock);
        Assert.Equal(
            [Id("changed", new DateTimeOffset(2026, 6, 14, 13, 0, 0, TimeSpan.Zero))], await FiredAsync(store));
    }

    /// <summary>
    /// Two hundred days in which schedules are changed by hand, declared anew, put into other zones, paused and resumed
    /// at random moments, while relays are killed or away: each firing of the rule in force at its time is there once.
    /// </summary>
    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    public async Task Over_two_hundred_days_of_changes_each_firing_of_the_rule_in_force_is_there_exactly_once(int seed)
    {
        await using var crossing = new Crossing(new TPlace());
        var random = new Random(seed);
        var start = new DateTimeOffset(2026, 2, 1, 0, 10, 0, TimeSpan.Zero);
        var clock = new FakeTimeProvider(start);
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        var book = new ScheduleBook(store);
        string[] crons = ["0 23 * * *", "30 1 * * *", "*/20 1-2 * * *", "0 * * * *", "15 7 * * *"];
        string[] zones = ["Europe/Lisbon", "UTC", "Pacific/Auckland"];
        string[] names = ["closing", "counting"];
        // What was in force, and from when on; null: nothing, it was paused.
        var history = names.ToDictionary(n => n, _ => new List<(DateTimeOffset From, ScheduleRule? Rule)>());
        foreach (var name in names)
        {
            var options = Draw();
            await DeclareAsync(store, name, options, "0", clock);
            history[name].Add((start, options.Rule));
        }
        var instances = Enumerable.Range(0, 3).Select(i => Instance(store, clock, $"i{i}", random)).ToArray();
        var declarations = 0;
        for (var end = start.AddDays(200); clock.GetUtcNow() < end;)
        {
            clock.Advance(random.Next(40) == 0 ? TimeSpan.FromHours(random.Next(1, 30))
                : TimeSpan.FromMinutes(random.Next(1, 90)));
            if (random.Next(6) == 0) await ChangeAsync(names[random.Next(names.Length)]);
            if (random.Next(3) > 0) await TurnOfOneAsync(instances, store, clock, random);
        }
        var last = clock.GetUtcNow();
        clock.Advance(TimeSpan.FromMinutes(1));
        await QuietAsync(store, clock);
        var fired = await FiredAsync(store);
        Assert.Equal(fired.Count, fired.Distinct().Count());
        Assert.Equal(
            names.SelectMany(n => Expected(n, history[n], last)).Order(StringComparer.Ordinal),
            fired.Where(id => TimeOf(id) <= last).Order(StringComparer.Ordinal));

        ScheduleOptions Draw() => new()
        {
            Cron = crons[random.Next(crons.Length)], TimeZone = zones[random.Next(zones.Length)],
            Missed = Missed.Each, MaxMissed = 1000,
        };

        async Task ChangeAsync(string name)
        {
            var (now, before) = (clock.GetUtcNow(), history[name][^1].Rule);
            if (random.Next(4) == 0)
            {
                await (before is null ? book.ResumeAsync(name) : book.PauseAsync(name));
                var kept = (await book.ListAsync()).Single(s => s.Name == name).Options.Rule;
                history[name].Add((now, before is null ? kept : null));
                return;
            }
            var options = Draw();
            if (random.Next(2) == 0) await DeclareAsync(store, name, options, $"{++declarations}", clock);
            else await book.ChangeAsync(name, o => (o.Cron, o.TimeZone) = (options.Cron, options.TimeZone));
            if (before is not null) history[name].Add((now, options.Rule));
        }
    }

    private static IEnumerable<string> Expected(
        string name, List<(DateTimeOffset From, ScheduleRule? Rule)> history, DateTimeOffset until)
    {
        for (var i = 0; i < history.Count; i++)
        {
            var (from, rule) = history[i];
            var to = i + 1 < history.Count ? history[i + 1].From : until;
            for (var time = rule?.After(from); time <= to; time = rule!.After(time.Value))
                yield return Id(name, time.Value);
        }
    }

    private static async Task DeclareAsync(IStorePort store, string name, ScheduleOptions options, string declaration,
        TimeProvider clock, double random = 0)
    {
        var rule = options.Rule.ToJson();
        var mine = new ScheduleRow(name, 0)
        {
            Type = "test.tap", Template = Crossing.TapEvent(0).Json, Rule = rule, DeclaredRule = rule,
            Declaration = declaration,
        };
        var kept = (await store.Schedules.ReadAsync(dueOnly: false)).Rows.SingleOrDefault(r => r.Name == name);
        var (row, events) = Declaring.Row(mine, kept, clock.GetUtcNow(), random);
        Assert.True(await store.Schedules.SaveAsync(row, events));
    }

    /// <summary>A turn of a relay that nothing happens to.</summary>
    private static async Task QuietAsync(IStorePort store, TimeProvider clock)
    {
        using var lead = new Lead(store, "", TimeSpan.FromMinutes(1), clock, NullLogger.Instance);
        await new Timekeeper(store, lead, clock, NullLogger.Instance).StepAsync(0, default);
    }

    private static async Task<List<string>> FiredAsync(IStorePort store)
    {
        var fired = new List<string>();
        await using var connection = await store.OpenConnectionAsync();
        await using var command = connection.CreateCommand();
        command.CommandText = $"SELECT event_id FROM {store.OutboxTable}";
        await using var reader = await command.ExecuteReaderAsync();
        while (await reader.ReadAsync()) fired.Add(reader.GetString(0));
        return fired;
    }

    /// <summary>A change by hand is part of the caller's transaction, and so is what leaves with it.</summary>
    [Fact]
    public async Task What_is_done_by_hand_in_a_transaction_holds_with_its_commit()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(new DateTimeOffset(2026, 6, 14, 12, 0, 0, TimeSpan.Zero));
        var store = crossing.Store("harbour", clock);
        await store.PrepareAsync(create: true);
        var book = new ScheduleBook(store);
        await DeclareAsync(store, "closing", new() { Cron = "0 23 * * *", TimeZone = "UTC" }, "1", clock);
        var before = (await store.Schedules.ReadAsync(dueOnly: false)).Rows.Single();
        await using var connection = await store.OpenConnectionAsync();
        foreach (var commits in new[] { false, true })
        {
            await using (var transaction = await connection.BeginTransactionAsync())
            {
                await book.ChangeAsync("closing", o => o.Cron = "0 21 * * *", transaction);
                await book.PauseAsync("closing", transaction);
                await book.ResumeAsync("closing", transaction);
                await book.RestoreAsync("closing", transaction);
                await book.PauseAsync("closing", transaction);
                Assert.EndsWith("by hand", await book.FireAsync("closing", transaction), StringComparison.Ordinal);
                if (commits) await transaction.CommitAsync();
                else await transaction.RollbackAsync();
            }
            var now = (await store.Schedules.ReadAsync(dueOnly: false)).Rows.Single();
            Assert.Equal(commits, now.Paused is not null);
            if (!commits) Assert.Equal(before.Version, now.Version);
            Assert.Equal(commits ? 1 : 0, (await FiredAsync(store)).Count);
        }
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            await book.RemoveAsync("closing", transaction);
            await transaction.CommitAsync();
        }
        Assert.Empty((await store.Schedules.ReadAsync(dueOnly: false)).Rows);
    }

    private static string Id(string name, DateTimeOffset time) => string.Create(
        System.Globalization.CultureInfo.InvariantCulture, $"{name}@{time.UtcDateTime:yyyy-MM-dd'T'HH:mm:ss'Z'}");

    private static DateTimeOffset TimeOf(string id) =>
        DateTimeOffset.Parse(id[(id.IndexOf('@') + 1)..], System.Globalization.CultureInfo.InvariantCulture);

    /// <summary>One of them has its turn; where that kills it, another comes in its place.</summary>
    private static async Task TurnOfOneAsync(
        Func<Task>[] instances, IStorePort store, TimeProvider clock, Random random)
    {
        var one = random.Next(instances.Length);
        try
        {
            await instances[one]();
        }
        catch (KilledException)
        {
            instances[one] = Instance(store, clock, $"i{one}-{random.Next()}", random);
        }
    }

    /// <summary>One turn of an instance, which may be killed before or after it has written.</summary>
    private static Func<Task> Instance(IStorePort store, TimeProvider clock, string name, Random random)
    {
        var doomed = new TroubledTables(store.Tables, () => random.Next(20));
        var lead = new Lead(store, name, TimeSpan.FromMinutes(1), clock, NullLogger.Instance);
        var keeper = new Timekeeper(Proxied.With(store, doomed), lead, clock, NullLogger.Instance);
        return () => keeper.StepAsync(0, default);
    }

    /// <summary>
    /// The minutes at which a clock on the wall in Lisbon shows what an expression says, by looking at each of them.
    /// What is left out in spring counts at its end; what is there twice in autumn counts once, unless it recurs.
    /// </summary>
    private static IEnumerable<DateTimeOffset> Expected(string cron, DateTimeOffset from, DateTimeOffset to)
    {
        var zone = TimeZoneInfo.FindSystemTimeZoneById("Europe/Lisbon");
        var fields = cron.Split(' ');
        var recurs = fields[0].Contains('*') || fields[1].Contains('*') || fields[1].Contains('-');
        for (var time = from; time <= to; time = time.AddMinutes(1))
        {
            var here = TimeZoneInfo.ConvertTime(time, zone);
            var before = TimeZoneInfo.ConvertTime(time.AddMinutes(-1), zone);
            var isSecondTime = zone.IsAmbiguousTime(here) && here.Offset == zone.BaseUtcOffset;
            var hit = Matches(fields, here.Hour, here.Minute) && (recurs || !isSecondTime);
            // The gap: from the minute after the last one to this one.
            var gap = before.DateTime.AddMinutes(1);
            for (; !hit && !recurs && gap < here.DateTime; gap = gap.AddMinutes(1))
                hit = here.Offset != before.Offset && Matches(fields, gap.Hour, gap.Minute);
            if (hit) yield return time;
        }
    }

    private static bool Matches(string[] fields, int hour, int minute) =>
        Matches(fields[0], minute) && Matches(fields[1], hour);

    private static bool Matches(string field, int value) => field switch
    {
        "*" => true,
        _ when field.StartsWith("*/", StringComparison.Ordinal) =>
            value % int.Parse(field[2..], System.Globalization.CultureInfo.InvariantCulture) == 0,
        _ when field.Split('-') is [var first, var last] =>
            value >= int.Parse(first, System.Globalization.CultureInfo.InvariantCulture)
            && value <= int.Parse(last, System.Globalization.CultureInfo.InvariantCulture),
        _ => value == int.Parse(field, System.Globalization.CultureInfo.InvariantCulture),
    };

    private sealed class KilledException : Exception;

    /// <summary>The real tables, but one in ten writes ends the process before it, or after.</summary>
    private sealed class TroubledTables(ITables inner, Func<int> dice) : ITables
    {
        public async Task RunAsync(
            Statements statements, DbTransaction? transaction, CancellationToken cancellationToken)
        {
            var fate = statements.OnlyRead ? -1 : dice();
            if (fate == 0) throw new KilledException();
            await inner.RunAsync(statements, transaction, cancellationToken);
            if (fate == 1) throw new KilledException();
        }

        public Sql NextDue(Sql where, bool isOfFew, LaterEvent? after, int limit) =>
            inner.NextDue(where, isOfFew, after, limit);

        public Sql SetDue(DateTimeOffset time, bool byClock) => inner.SetDue(time, byClock);
    }

    /// <summary>A store with other tables.</summary>
    public class Proxied : System.Reflection.DispatchProxy
    {
        private IStorePort? inner;
        private ITables? tables;

        internal static IStorePort With(IStorePort inner, ITables tables)
        {
            var proxy = Create<IStorePort, Proxied>();
            ((Proxied)(object)proxy).inner = inner;
            ((Proxied)(object)proxy).tables = tables;
            return proxy;
        }

        protected override object? Invoke(System.Reflection.MethodInfo? targetMethod, object?[]? args) =>
            targetMethod!.Name == "get_Tables" ? tables : targetMethod.Invoke(inner, args);
    }
}
