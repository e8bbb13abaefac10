using System.Text;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Sqlite.Tests;

/// <summary>
/// Processes at one file, some of them with a clock that is wrong: what is named by the clock is not early.
/// </summary>
public sealed class WrongClockTests
{
    private const string Timed = "Rig:Timed=true";

    private static async Task<ClockFigures?> ClockAsync(Crossing crossing) =>
        (await crossing.SharedStore("harbour").ReadOutboxFiguresAsync()).Clock;

    private static Task UntilAsync(
        Crossing crossing, Func<ClockFigures?, bool> isSo, string what, params Rig[] rigs) =>
        Crossing.UntilAsync(async () => isSo(await ClockAsync(crossing)), what, rigs);

    private static bool IsRight(ClockFigures? clock) => clock is { DoubtedFor: null }
        && (clock.Time - DateTimeOffset.UtcNow).Duration() < TimeSpan.FromMinutes(1);

    private static async Task AddAsync(IStorePort store, int number, DueTime due)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        var mark = Crossing.TapEvent(number);
        var json = Encoding.UTF8.GetString(mark.Json.Span).Replace("test.tap", "rig.mark", StringComparison.Ordinal);
        await store.Later.AddAsync(transaction, [new LaterDraft(
            mark with { Type = "rig.mark", Json = Encoding.UTF8.GetBytes(json) }, due)]);
        await transaction.CommitAsync();
    }

    private static async Task PublishAsync(Crossing crossing, int count, params Rig[] rigs)
    {
        using var publishing = new Rig(crossing, "publish", "harbour", $"Rig:Count={count}");
        await Crossing.UntilAsync(
            async () => await crossing.SharedStore("fares").CountAsync("mark") >= count, "all marks are written down",
            [publishing, .. rigs]);
    }

    [Theory]
    [InlineData("+1h")]
    [InlineData("+400d")]
    [InlineData("-1h")]
    public async Task A_file_that_is_first_opened_by_a_wrong_clock_goes_by_that_of_two_others(string clock)
    {
        await using var crossing = new Crossing(new Folder());
        using var receiving = new Rig(crossing, "receive", "fares", Timed);
        var fares = crossing.SharedStore("fares");
        using (var wrong = Rig.WithClock(clock, crossing, "relay", "harbour", Timed))
        {
            await Crossing.UntilAsync(() => Task.FromResult(receiving.HasStarted), "the receiver is there", receiving);
            await Crossing.UntilAsync(
                async () => await fares.CountAsync("tick") > 0, "it fires by its own", wrong, receiving);
            await wrong.KillAsync();
        }
        var began = DateTimeOffset.UtcNow.ToUnixTimeSeconds();
        using var right = new Rig(crossing, "relay", "harbour", Timed);
        await UntilAsync(crossing, c => c?.DoubtedFor is not null, "one against what was agreed is in doubt", right);
        Assert.Contains(
            Findings.Of("harbour", await crossing.SharedStore("harbour").ReadOutboxFiguresAsync()),
            f => f.Code == "clock-in-doubt");

        // All else goes on.
        await PublishAsync(crossing, 10, right, receiving);
        var before = await FiredAsync(crossing);
        await AddAsync(crossing.SharedStore("harbour"), 100, DueTime.In(TimeSpan.FromMilliseconds(100)));
        await Crossing.UntilAsync(async () => await fares.CountAsync("mark") == 11, "a delay ends", right, receiving);
        Assert.Equal(before, await FiredAsync(crossing));

        using var second = new Rig(crossing, "relay", "harbour", Timed);
        await UntilAsync(crossing, IsRight, "two are the most", right, second);
        await Crossing.UntilAsync(
            async () => (await TicksAsync(fares)).Any(
                t => t >= began && t <= DateTimeOffset.UtcNow.ToUnixTimeSeconds()),
            "schedules go on by the right clock", right, second, receiving);
    }

    [Fact]
    public async Task A_wrong_clock_alone_keeps_what_is_named_by_the_clock_and_somebody_says_what_time_it_is()
    {
        await using var crossing = new Crossing(new Folder());
        using var receiving = new Rig(crossing, "receive", "fares");
        await Crossing.UntilAsync(() => Task.FromResult(receiving.HasStarted), "the receiver is there", receiving);
        var store = crossing.SharedStore("harbour");
        using (var right = new Rig(crossing, "relay", "harbour"))
        {
            await Crossing.UntilAsync(() => Task.FromResult(right.HasStarted), "it leads", right);
            await UntilAsync(crossing, IsRight, "what time it is is known", right);
            Assert.Equal(0, await right.StopAsync());
        }
        await AddAsync(store, 100, DueTime.At(DateTimeOffset.UtcNow.AddMinutes(30)));
        await AddAsync(store, 101, DueTime.In(TimeSpan.FromMinutes(30)));
        using var wrong = Rig.WithClock("+1h", crossing, "relay", "harbour");
        await UntilAsync(crossing, c => c?.DoubtedFor is not null, "its clock is in doubt", wrong);
        await PublishAsync(crossing, 10, wrong, receiving);
        Assert.Equal(2, (await store.ReadOutboxFiguresAsync()).Later);

        await store.Later.SetClockAsync(DateTimeOffset.UtcNow);
        await AddAsync(store, 102, DueTime.At(DateTimeOffset.UtcNow));
        await Crossing.UntilAsync(
            async () => await crossing.SharedStore("fares").CountAsync("mark") == 11, "what is due leaves",
            wrong, receiving);
        Assert.Equal(2, (await store.ReadOutboxFiguresAsync()).Later);
        // On a machine that is too busy it is not heard for a while.
        await UntilAsync(
            crossing, c => c?.Apart is [{ Ahead.TotalMinutes: > 59 and < 61 }], "how far it is off is said", wrong);
        await Crossing.UntilAsync(
            async () => Findings.Of("harbour", await store.ReadOutboxFiguresAsync()).Any(f => f.Code == "clocks-apart")
                && await Examine(store).AnyAsync(check => check is { Name: "clock", Result: CheckResult.Wrong }),
            "it is found", wrong);
    }

    [Fact]
    public async Task The_only_clock_that_is_set_while_it_is_looked_at_takes_the_store_along()
    {
        await using var crossing = new Crossing(new Folder());
        var said = $"{crossing.StoreFile("harbour")}.time";
        await File.WriteAllTextAsync(said, "+0");
        using var relaying = Rig.WithClock(said, crossing, "relay", "harbour");
        await Crossing.UntilAsync(() => Task.FromResult(relaying.HasStarted), "it leads", relaying);
        await UntilAsync(crossing, IsRight, "what time it is is known", relaying);
        await File.WriteAllTextAsync(said, "+1h");
        await UntilAsync(crossing, c => c is { DoubtedFor: null, Apart: [] } && !IsRight(c), "it is set", relaying);
        await Crossing.UntilAsync(
            () => Task.FromResult(relaying.Lines.Any(l => l.Contains("[506]", StringComparison.Ordinal))),
            "it is told", relaying);
    }

    /// <summary>As after a power cut, on a machine whose clock comes up wrong.</summary>
    [Fact]
    public async Task A_clock_that_is_wrong_when_the_host_has_started_clears_nothing_away()
    {
        const string Keep = "Courier:Retention:Inbox=2.00:00:00";
        await using var crossing = new Crossing(new Folder());
        var fares = crossing.SharedStore("fares");
        using (var receiving = new Rig(crossing, "receive", "fares", Keep))
        {
            using var relaying = new Rig(crossing, "relay", "harbour");
            await Crossing.UntilAsync(() => Task.FromResult(receiving.HasStarted), "it is there", receiving);
            await PublishAsync(crossing, 10, receiving, relaying);
            await Crossing.UntilAsync(
                async () => await ClearedAsync(fares) is not null, "it was cleared away once", receiving);
            Assert.Equal(0, await receiving.StopAsync());
            Assert.Equal(0, await relaying.StopAsync());
        }
        var before = await ClearedAsync(fares);
        await using (var connection = await fares.OpenConnectionAsync())
        {
            await connection.ExecuteAsync("UPDATE courier_store_clock SET boot = 'before'");
        }
        using var wrong = Rig.WithClock("+400d", crossing, "receive", "fares", Keep);
        await Crossing.UntilAsync(
            async () => await ClearedAsync(fares) > before, "it was cleared away again", wrong);
        Assert.Equal(10, await fares.CountAsync("courier_inbox"));
    }

    [Fact]
    public async Task What_the_host_was_off_for_counts_once_however_often_it_is_started()
    {
        await using var place = new Folder();
        for (var start = 0; start < 4; start++)
        {
            await using var store = new SqliteEngine().CreateStore(
                new("sqlite", $"{place.Path}/s.db"), TimeProvider.System);
            await store.PrepareAsync(create: true);
            await using var connection = await store.OpenConnectionAsync();
            var added = await AddedAsync(store, connection, start);
            Assert.InRange(
                added - DateTimeOffset.UtcNow.ToUnixTimeMilliseconds(), -60_000, 60_000);
            // Eight hours later it is started again.
            await connection.ExecuteAsync("UPDATE courier_store_clock SET boot = 'before'");
            await connection.ExecuteAsync("UPDATE courier_outbox SET added = added - 28800000");
        }
    }

    /// <summary>Delays go by the file's time, what is named by the clock by that: the order is of both.</summary>
    [Fact]
    public async Task Delays_and_times_are_listed_and_leave_in_one_order_whatever_the_clock_is_ahead()
    {
        await using var place = new Folder();
        await using var store = new SqliteEngine().CreateStore(
            new("sqlite", $"{place.Path}/s.db"), TimeProvider.System);
        await store.PrepareAsync(create: true);
        var now = DateTimeOffset.UtcNow.AddHours(1);
        await store.Later.SetClockAsync(now);
        for (var i = 0; i < 10; i++)
            await AddAsync(store, i, i % 2 == 0 ? DueTime.In(TimeSpan.FromMinutes(i)) : DueTime.At(now.AddMinutes(i)));
        var listed = new List<LaterEvent>();
        while (await store.LaterEvents.ReadAsync(new(), 1, listed.LastOrDefault(), null, default) is [var next])
            listed.Add(next);
        Assert.Equal(Enumerable.Range(0, 10).Select(i => $"{i}"), listed.Select(e => e.Id));
        Assert.All(listed, (e, i) => Assert.InRange(e.Due - now.AddMinutes(i), -Slack, Slack));

        // An hour later by the clock alone: what it names is due, delays are not.
        await store.Later.SetClockAsync(now.AddHours(1));
        var term = await store.LeadAsync("one", TimeSpan.FromMinutes(1), default);
        Assert.Equal(6, (await store.Later.MoveDueAsync(term!.Value, 100, [], default)).Moved);
        Assert.Equal(["1", "3", "5", "7", "9", "0"],
            (await store.ReadOutboxAsync(100, default)).Rows.Select(r => r.Event.Id));
    }

    private static TimeSpan Slack => TimeSpan.FromMinutes(0.9);

    private static async Task<long> AddedAsync(IStorePort store, System.Data.Common.DbConnection connection, int number)
    {
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            await store.AddAsync(transaction, [Crossing.TapEvent(number)]);
            await transaction.CommitAsync();
        }
        return (await NumbersAsync(store, "SELECT added FROM courier_outbox ORDER BY seq DESC"))[0];
    }

    private static IAsyncEnumerable<Check> Examine(IStorePort store) =>
        ((IExaminable)store).ExamineAsync(CancellationToken.None);

    private static async Task<long> FiredAsync(Crossing crossing) =>
        (await NumbersAsync(crossing.SharedStore("harbour"), "SELECT fired FROM courier_schedule"))[0];

    private static async Task<long?> ClearedAsync(IStorePort store) =>
        (await NumbersAsync(store, "SELECT done FROM courier_store_chore WHERE done IS NOT NULL")) is [var at, ..]
            ? at : null;

    private static Task<List<long>> TicksAsync(IStorePort store) => NumbersAsync(store, "SELECT second FROM tick");

    private static async Task<List<long>> NumbersAsync(IStorePort store, string sql)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var command = connection.CreateCommand();
        command.CommandText = sql;
        await using var reader = await command.ExecuteReaderAsync();
        var numbers = new List<long>();
        while (await reader.ReadAsync()) numbers.Add(reader.GetInt64(0));
        return numbers;
    }
}
