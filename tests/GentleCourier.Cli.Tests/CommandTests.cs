using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Sqlite;
using GentleCourier.Watching;

namespace GentleCourier.Cli.Tests;

public sealed partial class CommandTests
{
    private const string Tap =
        """{"specversion":"1.0","id":"gate-1/1","source":"/t","type":"test.tap","data":{"number":1} }""";

    /// <summary>
    /// A broker with a queue "taps" and one dead letter in it, whose texts try to play tricks on a terminal.
    /// </summary>
    private static async Task SetAsideAsync(Courier courier, string json = Tap)
    {
        await using var broker = new SqliteEngine()
            .CreateBroker(new("sqlite", courier.BrokerFile), TimeProvider.System);
        await broker.PrepareAsync(new Topology(["taps"], [new("test.tap", "taps")]), create: true);
        await broker.PublishAsync([new EncodedEvent("gate-1/1", "test.tap", null, Encoding.UTF8.GetBytes(json))]);
        await using var link = await broker.OpenLinkAsync("taps", "pier/7", TimeSpan.FromSeconds(30));
        var taken = await link.ReceiveAsync(1, CancellationToken.None);
        await link.SettleAsync(
            [new(taken[0], new Outcome.Rejected(
                "no \u001b[31msuch pier", new Failure("Some.Exception", "the message", "the stack\n   at line 2")))],
            0, CancellationToken.None);
    }

    [Fact]
    public async Task Schema_apply_makes_a_store_and_a_broker_and_may_be_repeated()
    {
        using var courier = new Courier();
        for (var i = 0; i < 2; i++)
        {
            (await courier.RunAsync("schema", "apply", "store", "--store", courier.Store)).Says("is up to date");
            (await courier.RunAsync("schema", "apply", "broker", "--broker", courier.Broker, "--queue", "taps",
                "--route", "test.tap=fares"))
                .Says("is up to date: 2 queues, 1 route");
        }
        var status = await courier.RunAsync("status", "--broker", courier.Broker, "--store", courier.Store);
        status.Says("test.tap goes to fares");
        status.Says("nothing goes to taps: it has no route");
        status.Says("relay: none leads");
    }

    [Fact]
    public async Task Status_says_who_receives_and_what_is_wrong_and_can_tell_a_script()
    {
        using var courier = new Courier();
        await using var broker = new SqliteEngine()
            .CreateBroker(new("sqlite", courier.BrokerFile), TimeProvider.System);
        await broker.PrepareAsync(new Topology(["fares"], [new("test.tap", "fares")]), create: true);
        string[] status = ["status", "--broker", courier.Broker];
        (await courier.RunAsync([.. status, "--check"])).Says("findings: none");

        await broker.PublishAsync([new EncodedEvent("gate-1/1", "test.tap", null, Encoding.UTF8.GetBytes(Tap))]);
        var unreceived = await courier.RunAsync(status);
        unreceived.Says("workers: none receives");
        unreceived.Says("wrong queue-unreceived: queue fares has 1 event waiting");
        unreceived.Says("next: start its worker");

        await broker.Register!.BeatAsync(
            new WorkerFigures("1", "pier/7", "1.0", DateTimeOffset.UtcNow, [new("faers", ["test.tap"], "[20]", 1)]),
            TimeSpan.FromMinutes(10));
        var misspelt = await courier.RunAsync([.. status, "--check"]);
        Assert.Equal(3, misspelt.ExitCode);
        Assert.Matches(@"pier/7 +faers .*\[20\]", misspelt.Output);
        Assert.Contains("wrong queue-misspelt: nobody receives from queue fares", misspelt.Output,
            StringComparison.Ordinal);
        Assert.Contains("there is a queue fares", misspelt.Output, StringComparison.Ordinal);
        using var json = JsonDocument.Parse((await courier.RunAsync([.. status, "--json"])).Output);
        Assert.Equal(["queue-misspelt", "receiver-unrouted"],
            json.RootElement.GetProperty("findings").EnumerateArray().Select(f => f.GetProperty("code").GetString()));
        Assert.Equal("pier/7", json.RootElement.GetProperty("workers")[0].GetProperty("worker").GetString());
    }

    [Fact]
    public async Task Doctor_says_of_each_thing_how_it_is_and_of_what_is_missing_how_to_make_it()
    {
        using var courier = new Courier();
        var missing = await courier.RunAsync("doctor", "--broker", courier.Broker, "--store", courier.Store);
        Assert.Equal(3, missing.ExitCode);
        Assert.Matches(@"wrong file +sqlite:\S+broker.db does not exist; .*courier schema apply", missing.Output);
        Assert.Contains("2 of 2 things are wrong", missing.Output, StringComparison.Ordinal);

        await courier.RunAsync("schema", "apply", "broker", "--broker", courier.Broker, "--route", "test.tap=fares");
        await courier.RunAsync("schema", "apply", "store", "--store", courier.Store);
        var well = await courier.RunAsync("doctor", "--broker", courier.Broker, "--store", courier.Store);
        well.Says("all is well");
        well.Says("tables");
        await courier.RunAsync(Tap, ["publish", "--broker", courier.Broker]);
        using var json = JsonDocument.Parse(
            (await courier.RunAsync("doctor", "--json", "--broker", courier.Broker)).Output);
        Assert.Equal(["queue-unreceived"], json.RootElement.EnumerateArray()
            .Where(c => c.GetProperty("result").GetString() == "wrong").Select(c => c.GetProperty("name").GetString()));

        await File.WriteAllTextAsync(courier.StoreFile, "not a database, but a text of more than a hundred bytes, as "
            + "somebody may well have put it there by mistake: who knows?");
        Assert.Contains("it is not a SQLite database",
            (await courier.RunAsync("doctor", "--store", courier.Store)).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Status_waits_until_all_is_drained_and_no_longer_than_it_may()
    {
        using var courier = new Courier();
        await using var broker = new SqliteEngine()
            .CreateBroker(new("sqlite", courier.BrokerFile), TimeProvider.System);
        await broker.PrepareAsync(
            new Topology(["fares", "notices"], [new("test.tap", "fares"), new("test.late", "notices")]), create: true);
        await courier.RunAsync(Tap, ["publish", "--broker", courier.Broker]);
        string[] wait = ["status", "--broker", courier.Broker, "--wait-until", "drained"];
        var late = await courier.RunAsync([.. wait, "--limit", "0.1s"]);
        Assert.Equal(4, late.ExitCode);
        Assert.Contains("waiting: fares 1", late.Errors, StringComparison.Ordinal);
        // Of another queue it need not be waited for.
        (await courier.RunAsync([.. wait, "--queue", "notices", "--limit", "0.1s"])).Says("notices");
        (await courier.RunAsync([.. wait, "--queue", "nothing"]))
            .Fails(1, "has no queue 'nothing'; it has fares, notices");
        (await courier.RunAsync([.. wait, "--limit", "soon"])).Fails(2, "'soon' is not a time");
        (await courier.RunAsync([.. wait[..3], "--limit", "9s"])).Fails(2, "--limit goes with --wait-until drained");

        var waiting = courier.RunAsync([.. wait, "--limit", "2m"]);
        await using var link = await broker.OpenLinkAsync("fares", "pier/7", TimeSpan.FromMinutes(1));
        var taken = await link.ReceiveAsync(1, CancellationToken.None);
        await link.SettleAsync([new(taken[0], Outcome.Accepted)], 0, CancellationToken.None);
        (await waiting).Says("empty");
    }

    [Fact]
    public async Task Stores_are_named_in_the_settings_and_one_that_is_away_does_not_hide_the_others()
    {
        using var courier = new Courier();
        await courier.RunAsync("schema", "apply", "store", "--store", courier.Store);
        var settings = Path.Combine(courier.Folder, "courier.json");
        await File.WriteAllTextAsync(
            settings, $$"""{ "stores": { "harbour": "{{courier.Store}}", "fares": "sqlite:fares.db" } }""");
        (await courier.RunAsync("status", "--store", "harbour")).Says("outbox of harbour");
        (await courier.RunAsync("status", "--store", "habour")).Fails(2, "there is no store 'habour' in");
        (await courier.RunAsync("schema", "apply", "store")).Fails(2, "name one --store here: fares, harbour");
        var both = await courier.RunAsync("status");
        Assert.Equal(1, both.ExitCode);
        Assert.Contains("outbox of harbour", both.Output, StringComparison.Ordinal);
        Assert.Contains("wrong store-unreachable: ", both.Output, StringComparison.Ordinal);
        await File.WriteAllTextAsync(settings, """{ "stores": "sqlite:harbour.db" }""");
        (await courier.RunAsync("status")).Fails(2, "must give each store a name");
    }

    [Fact]
    public async Task Schema_print_makes_the_same_tables_as_apply()
    {
        using var courier = new Courier();
        foreach (var part in new[] { "store", "broker" })
        {
            var printed = await courier.RunAsync("schema", "print", part);
            printed.Says(
                "CREATE TABLE courier_schema".Replace("TABLE", "TABLE IF NOT EXISTS", StringComparison.Ordinal));
            var (byHand, applied) = (
                Path.Combine(courier.Folder, $"{part}-1.db"), Path.Combine(courier.Folder, $"{part}-2.db"));
            Run(byHand, printed.Output);
            (await courier.RunAsync("schema", "apply", part, $"--{part}", $"sqlite:{applied}")).Says("is up to date");
            Assert.Equal(TablesOf(applied), TablesOf(byHand));
            (await courier.RunAsync("status", $"--{part}", $"sqlite:{byHand}")).Says(byHand);
        }
    }

    [Fact]
    public async Task Publish_takes_a_whole_event_or_only_its_data()
    {
        using var courier = new Courier();
        courier.Environment["COURIER_BROKER"] = courier.Broker;
        (await courier.RunAsync("schema", "apply", "broker", "--route", "test.tap=taps", "--route", "test.tap=fares"))
            .Says("2 routes");
        (await courier.RunAsync(Tap, ["publish"])).Says("published test.tap gate-1/1 to fares, taps");
        await File.WriteAllTextAsync(Path.Combine(courier.Folder, "data.json"), """{"number":2}""");
        (await courier.RunAsync("publish", "data.json", "--type", "test.tap", "--id", "two", "--partition-key", "k"))
            .Says("published test.tap two");

        await using var broker = new SqliteEngine()
            .CreateBroker(new("sqlite", courier.BrokerFile), TimeProvider.System);
        var events = (await broker.Reports!.PeekAsync("taps", 10)).Select(e => CourierEvent.Read(e.Json)).ToList();
        Assert.Equal([("gate-1/1", null), ("two", "k")], events.Select(e => (e.Id, e.PartitionKey)));
        Assert.Equal("""{"number":2}""", Encoding.UTF8.GetString(events[1].Data.Span));
    }

    [Fact]
    public async Task What_was_counted_is_reckoned_anew_where_somebody_says_so()
    {
        using var courier = new Courier();
        await SetAsideAsync(courier);
        (await courier.RunAsync("doctor", "--recount", "--broker", courier.Broker)).Says("are right, of about");
        await using (var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={courier.BrokerFile}"))
        {
            await connection.OpenAsync();
            await using var command = connection.CreateCommand();
            command.CommandText = "DELETE FROM courier_dead_letter WHERE id = 1";
            await command.ExecuteNonQueryAsync();
        }
        var counted = await courier.RunAsync("doctor", "--recount", "--broker", courier.Broker);
        Assert.Contains("has 1 dead letter fewer than was counted, which is mended",
            string.Join(' ', counted.Output.Split((char[])[' ', '\n'], StringSplitOptions.RemoveEmptyEntries)),
            StringComparison.Ordinal);
        (await courier.RunAsync("doctor", "--recount", "--broker", courier.Broker)).Says("are right, of about");
    }

    [Theory]
    [InlineData("", new[] { "publish" }, "is not a CloudEvents event")]
    [InlineData("{}", new[] { "publish" }, "say --type TYPE")]
    [InlineData("nonsense", new[] { "publish", "--type", "test.tap" }, "the data is not JSON")]
    [InlineData("""{"a":1,"a":2}""", new[] { "publish", "--type", "test.tap" }, "the data is not JSON: Duplicate")]
    [InlineData("""{"specversion":"1.0","id":"1","source":"/t","type":"test.tap","id":"2","data":1}""",
        new[] { "publish" }, "receivers would not take it: Duplicate")]
    [InlineData("{}", new[] { "publish", "--type", "test.other" }, "no queue is routed for type 'test.other'")]
    [InlineData("", new[] { "publish", "missing.json" }, "there is no such file")]
    [InlineData("", new[] { "dead-letters", "show", "99" }, "there is no dead letter 99")]
    [InlineData("", new[] { "dead-letters", "show", "x" }, "there is no dead letter x")]
    [InlineData("", new[] { "dead-letters", "--queue", "nope" }, "queue 'nope' does not exist")]
    public async Task What_cannot_be_done_ends_with_1_and_a_line_that_says_why(
        string input, string[] arguments, string error)
    {
        using var courier = new Courier();
        await SetAsideAsync(courier);
        courier.Environment["COURIER_BROKER"] = courier.Broker;
        (await courier.RunAsync(input, arguments)).Fails(1, error);
    }

    [Theory]
    [InlineData(new string[0], "Required command was not provided")]
    [InlineData(new[] { "status" },
        "which broker? Say --broker ADDRESS, set COURIER_BROKER, or put \"broker\" into courier.json")]
    [InlineData(new[] { "status", "--bogus" }, "--bogus")]
    [InlineData(new[] { "statsu" }, "there is no 'statsu' here; did you mean status?")]
    [InlineData(new[] { "schema", "aply", "store" }, "there is no 'aply' here; did you mean apply?")]
    [InlineData(new[] { "status", "--brokr", "sqlite:b.db" }, "there is no '--brokr' here; did you mean --broker?")]
    [InlineData(new[] { "status", "--broker", "broker.db" },
        "this is no address of a broker: it names no engine; for a file say sqlite:FILE")]
    [InlineData(new[] { "status", "--store", "Host=db;Password=s3cret" }, "store: it is a driver's connection string")]
    [InlineData(
        new[] { "status", "--broker", "carrierpigeon:coop" }, "there is no engine 'carrierpigeon'; there is sqlite")]
    [InlineData(new[] { "dead-letters", "list", "--limit", "none" }, "--limit must be a whole number")]
    [InlineData(new[] { "schema", "apply", "harbour" }, "harbour")]
    [InlineData(new[] { "schema", "apply", "broker", "--broker", "sqlite:b.db", "--route", "ab" },
        "--route must be TYPE=QUEUE")]
    [InlineData(
        new[] { "schema", "apply", "store", "--store", "sqlite:s.db", "--queue", "q" }, "a store has no queues")]
    public async Task A_wrong_command_line_ends_with_2(string[] arguments, string error)
    {
        using var courier = new Courier();
        (await courier.RunAsync(arguments)).Fails(2, error);
    }

    [Fact]
    public async Task The_first_help_is_a_line_for_each_command_and_errors_are_json_where_that_is_asked_for()
    {
        using var courier = new Courier();
        var help = await courier.RunAsync("--help");
        Assert.Matches(
            "publish <FILE> +Publishes one test event to the queues that its type is routed to.", help.Output);
        Assert.DoesNotContain("Examples:", help.Output, StringComparison.Ordinal);
        Assert.InRange(help.Output.Split('\n').Length, 10, 40);

        var failed = await courier.RunAsync("status", "--json", "--broker", courier.Broker);
        using var error = JsonDocument.Parse(failed.Errors);
        Assert.Equal((1, 1), (failed.ExitCode, error.RootElement.GetProperty("exitCode").GetInt32()));
        Assert.Contains("does not exist", error.RootElement.GetProperty("error").GetString(), StringComparison.Ordinal);
    }

    /// <summary>Also of those that need options or arguments, which whoever asks does not know yet.</summary>
    [Fact]
    public async Task Each_command_has_a_help_of_its_own_with_times_as_they_are_typed()
    {
        using var courier = new Courier();
        Assert.InRange(await WalkAsync([]), 35, 100);

        async Task<int> WalkAsync(string[] command)
        {
            var help = await courier.RunAsync([.. command, "--help"]);
            help.Says(command.Length == 0 ? "Usage:\n  courier " : $"Usage:\n  courier {string.Join(' ', command)}");
            Assert.DoesNotMatch(@"\d\d:\d\d:\d\d\]", help.Output);
            var below = help.Output.Split("Commands:\n") is [_, var commands]
                ? CommandLine.Matches(commands).Select(m => m.Groups["name"].Value) : [];
            return 1 + (await Task.WhenAll(below.Select(name => WalkAsync([.. command, name])))).Sum();
        }
    }

    [GeneratedRegex(@"^  (?<name>[a-z][a-z-]*)", RegexOptions.Multiline, 1000)]
    private static partial Regex CommandLine { get; }

    [Fact]
    public async Task Options_go_before_the_environment_and_that_before_the_file()
    {
        using var courier = new Courier();
        await courier.RunAsync("schema", "apply", "broker", "--broker", courier.Broker);
        var settings = Path.Combine(courier.Folder, "courier.json");

        await File.WriteAllTextAsync(settings, $$"""{ "broker": "{{courier.Broker}}" }""");
        (await courier.RunAsync("status")).Says(courier.BrokerFile);
        courier.Environment["COURIER_BROKER"] = "sqlite:of-the-environment.db";
        (await courier.RunAsync("status")).Fails(1, "of-the-environment.db does not exist");
        (await courier.RunAsync("status", "--broker", courier.Broker)).Says(courier.BrokerFile);

        courier.Environment.Clear();
        await File.WriteAllTextAsync(settings, """{ "brokr": "x" }""");
        (await courier.RunAsync("status")).Fails(2, "'brokr' in");
        await File.WriteAllTextAsync(settings, "{ nonsense");
        (await courier.RunAsync("status")).Fails(2, "cannot be read as JSON");
    }

    [Fact]
    public async Task Dead_letters_are_listed_and_shown_whole_without_their_control_characters()
    {
        using var courier = new Courier();
        await SetAsideAsync(courier);
        var causes = await courier.RunAsync("dead-letters", "--broker", courier.Broker);
        causes.Says("test.tap: Exception: the message");
        var list = await courier.RunAsync("dead-letters", "list", "--broker", courier.Broker);
        list.Says("no  [31msuch pier");
        list.Says("gate-1/1");

        var shown = await courier.RunAsync("dead-letters", "show", "1", "--broker", courier.Broker);
        foreach (var part in new[] { "no  [31msuch pier", "Some.Exception", "the message", "the stack\n   at line 2",
            "pier/7", "test.tap", "\"number\": 1" }) shown.Says(part);
        Assert.DoesNotContain('\u001b', causes.Output + list.Output + shown.Output);

        using var json = JsonDocument.Parse(
            (await courier.RunAsync("dead-letters", "list", "--json", "--broker", courier.Broker)).Output);
        var letter = Assert.Single(json.RootElement.EnumerateArray());
        Assert.Equal("taps", letter.GetProperty("queue").GetString());
        Assert.Equal(1, letter.GetProperty("event").GetProperty("data").GetProperty("number").GetInt32());
        Assert.Equal(1, letter.GetProperty("attempts").GetInt32());
    }

    [Fact]
    public async Task A_dead_letter_that_is_no_event_at_all_can_be_looked_at()
    {
        using var courier = new Courier();
        await SetAsideAsync(courier, "Longsand;0417");
        (await courier.RunAsync("dead-letters", "show", "1", "--broker", courier.Broker)).Says("Longsand;0417");
        using var json = JsonDocument.Parse(
            (await courier.RunAsync("dead-letters", "show", "1", "--json", "--broker", courier.Broker)).Output);
        Assert.Equal("Longsand;0417"u8.ToArray(), json.RootElement.GetProperty("eventBase64").GetBytesFromBase64());
    }

    [Fact]
    public async Task Status_counts_in_json()
    {
        using var courier = new Courier();
        await SetAsideAsync(courier);
        await courier.RunAsync("schema", "apply", "store", "--store", courier.Store);
        await courier.RunAsync(Tap, ["publish", "--broker", courier.Broker]);
        using var json = JsonDocument.Parse(
            (await courier.RunAsync("status", "--json", "--broker", courier.Broker, "--store", courier.Store)).Output);
        var queue = json.RootElement.GetProperty("queues")[0];
        Assert.Equal(
            ("taps", 1, 0, 1),
            (queue.GetProperty("name").GetString(), queue.GetProperty("ready").GetInt32(),
            queue.GetProperty("inHand").GetInt32(), queue.GetProperty("deadLetters").GetInt32()));
        Assert.Equal(0, json.RootElement.GetProperty("outboxes")[0].GetProperty("waiting").GetInt32());
    }

    [Fact]
    public async Task Broken_files_are_one_clear_line()
    {
        using var courier = new Courier();
        (await courier.RunAsync("status", "--broker", courier.Broker)).Fails(1, "does not exist");
        await File.WriteAllTextAsync(courier.BrokerFile, new string('x', 5000));
        (await courier.RunAsync("status", "--broker", courier.Broker)).Fails(1, "it is not a SQLite database");
        Run(courier.StoreFile, "CREATE TABLE recipe (name TEXT)");
        (await courier.RunAsync("status", "--broker", courier.Store)).Fails(1, "without a broker of Gentle Courier");
        (await courier.RunAsync("status", "--store", courier.Store)).Fails(1, "without a store of Gentle Courier");
        (await courier.RunAsync("schema", "apply", "broker", "--broker", courier.Store))
            .Fails(1, "belongs to another application");
    }

    [Theory]
    [InlineData("status")]
    [InlineData("dead-letters")]
    [InlineData("outbox")]
    [InlineData("publish")]
    [InlineData("schema")]
    public async Task Help_has_examples(string command)
    {
        using var courier = new Courier();
        (await courier.RunAsync(command, "--help")).Says("Examples:");
    }

    private static void Run(string file, string sql)
    {
        using var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={file};Pooling=False");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    private static List<string> TablesOf(string file)
    {
        using var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={file};Pooling=False");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = "SELECT name || coalesce(sql, '') FROM sqlite_schema ORDER BY name";
        using var reader = command.ExecuteReader();
        var tables = new List<string>();
        while (reader.Read()) tables.Add(reader.GetString(0));
        return tables;
    }
}
