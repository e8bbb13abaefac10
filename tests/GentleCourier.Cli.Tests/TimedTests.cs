using System.Text;
using System.Text.Json.Nodes;
using GentleCourier.Engines;
using GentleCourier.Scheduling;
using GentleCourier.Sqlite;

namespace GentleCourier.Cli.Tests;

/// <summary>By hand: what waits for its time, and what recurs.</summary>
public sealed class TimedTests : IDisposable
{
    private readonly Courier courier = new();

    public void Dispose() => courier.Dispose();

    private async Task<IStorePort> StoreAsync()
    {
        var store = new SqliteEngine().CreateStore(new("sqlite", courier.StoreFile), TimeProvider.System);
        await store.PrepareAsync(create: true);
        courier.Environment["COURIER_STORE"] = courier.Store;
        return store;
    }

    private static byte[] Event(string id, string type) => Encoding.UTF8.GetBytes(
        $$"""{"specversion":"1.0","id":"{{id}}","source":"/t","type":"{{type}}","data":{"note":"a\u0007b"} }""");

    private static async Task AddAsync(IStorePort store, params (string Id, string? Key, DueTime Due)[] events)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await store.Later.AddAsync(transaction, [.. events.Select(e => new LaterDraft(
            new EncodedEvent(e.Id, "test.reminder", e.Key, Event(e.Id, "test.reminder")), e.Due))]);
        await transaction.CommitAsync();
    }

    [Fact]
    public async Task What_waits_is_listed_shown_moved_and_cancelled()
    {
        await using var store = await StoreAsync();
        (await courier.RunAsync("later")).Says("nothing waits in sqlite:");
        var far = new DateTimeOffset(2031, 6, 14, 5, 0, 0, TimeSpan.Zero);
        await AddAsync(store, ("0646", "north", DueTime.At(far.AddHours(1))), ("0614", "north", DueTime.At(far)),
            ("0720", null, DueTime.In(TimeSpan.FromHours(3.2))));
        var list = await courier.RunAsync("later");
        Assert.Matches(
            @"in 3 h  test.reminder 0720\n2031-06-14 05:00:00Z  in \d+ days  test.reminder 0614, key north",
            list.Output);
        (await courier.RunAsync("later", "--limit", "1")).Says("(the next 1; --limit N for more)");
        (await courier.RunAsync("later", "show", "0614")).Says("due            2031-06-14 05:00:00Z, in");
        var json = JsonNode.Parse((await courier.RunAsync("later", "--key", "north", "--json")).Output)!.AsArray();
        Assert.Equal(["0614", "0646"], json.Select(e => e!["id"]!.ToString()));

        (await courier.RunAsync("later", "move", "--id", "0614", "--to", "2031-06-14T07:30Z")).Says("1 event moved");
        (await courier.RunAsync("later", "--id", "0614")).Says("2031-06-14 07:30:00Z");
        var moved = JsonNode.Parse(JsonNode.Parse(
            (await courier.RunAsync("later", "--id", "0614", "--json")).Output)![0]!["event"]!.ToString())!;
        Assert.Equal("2031-06-14T07:30:00+00:00", moved["time"]!.ToString());

        (await courier.RunAsync("later", "cancel", "--key", "north", "--rehearse")).Says("nothing has been changed");
        (await courier.RunAsync("later", "cancel", "--key", "north"))
            .FailsAfter(2, "2 events would be cancelled: say --yes");
        (await courier.RunAsync("later", "cancel", "--key", "north", "--yes")).Says("2 events cancelled");
        (await courier.RunAsync("later", "cancel", "--id", "0614")).FailsAfter(1, "it was due, and is too late");
        (await courier.RunAsync("later", "cancel")).FailsAfter(2, "which? Say --id, --key or --type");
        (await courier.RunAsync("later", "move", "--id", "0720")).FailsAfter(2, "say --to TIME or --in TIME");
        (await courier.RunAsync("later", "move", "--id", "0720", "--to", "soon")).FailsAfter(2, "'soon' is no time");
        (await courier.RunAsync("status")).Says("later: 1; the next, or a schedule, is due in 3 h");
    }

    [Fact]
    public async Task A_schedule_is_listed_paused_fired_changed_and_removed()
    {
        await using var store = await StoreAsync();
        (await courier.RunAsync("schedules")).Says("no schedules in sqlite:");
        const string Rule = """{"cron":"0 23 * * *","timeZone":"Europe/Lisbon","missed":"Once"}""";
        var night = new DateTimeOffset(2031, 6, 14, 22, 0, 0, TimeSpan.Zero);
        Assert.True(await store.Schedules.SaveAsync(
            new ScheduleRow("close-accounts", 0)
            {
                Type = "test.accounts-due", Template = Event("close-accounts", "test.accounts-due"), Rule = Rule,
                DeclaredRule = Rule, Declaration = "1", Next = night, Due = night,
            }, []));
        await store.Schedules.MarkAsync([("close-accounts", "1")]);
        var list = await courier.RunAsync("schedules");
        list.Says("close-accounts  0 23 * * * in Europe/Lisbon, of missed ones the last fires");
        list.Says("Sat 2031-06-14 23:00, Sun 2031-06-15 23:00, ");

        (await courier.RunAsync("schedules", "pause", "close-accounts")).Says("paused");
        (await courier.RunAsync("schedules", "fire", "close-accounts")).Says("is in the outbox");
        Assert.StartsWith("close-accounts@", Assert.Single((await store.ReadOutboxAsync(10)).Rows).Event.Id,
            StringComparison.Ordinal);
        var changed = await courier.RunAsync(
            "schedules", "change", "close-accounts", "--every", "30m", "--missed", "each", "--max-missed", "5",
            "--jitter", "90s");
        changed.Says("every 30 min, of missed ones up to 5 fire, jitter 90 s");
        changed.Says("paused ");
        changed.Says("declared is 0 23 * * * in Europe/Lisbon");
        var json = JsonNode.Parse((await courier.RunAsync("schedules", "--json")).Output)![0]!;
        Assert.Equal((1800, "each", "0 23 * * *", null), (json["options"]!["everySeconds"]!.GetValue<int>(),
            json["options"]!["missed"]!.ToString(), json["declared"]!["cron"]!.ToString(), json["due"]?.ToString()));
        (await courier.RunAsync("schedules", "restore", "close-accounts")).Says("as declared");
        (await courier.RunAsync("schedules", "resume", "close-accounts")).Says("resumed");

        (await courier.RunAsync("schedules", "change", "close-accounts", "--cron", "0 25 * * *"))
            .FailsAfter(1, "left as it is: Cron '0 25 * * *' is not a cron expression");
        (await courier.RunAsync("schedules", "change", "close-accounts", "--time-zone", "Atlantic/Longsand"))
            .FailsAfter(1, "TimeZone 'Atlantic/Longsand' is not known on this host");
        (await courier.RunAsync("schedules", "change", "close-accounts", "--missed", "maybe"))
            .FailsAfter(2, "'maybe' not recognized");
        (await courier.RunAsync("schedules", "change", "close-accounts")).FailsAfter(2, "change what?");
        (await courier.RunAsync("schedules", "pause", "open-accounts")).FailsAfter(1, "there is close-accounts");
        (await courier.RunAsync("schedules", "remove", "close-accounts")).FailsAfter(1, "is declared by a process");
    }
}
