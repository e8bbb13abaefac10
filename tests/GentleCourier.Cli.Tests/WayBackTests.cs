using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text;
using System.Text.Json.Nodes;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Servers;
using GentleCourier.Sqlite;
using GentleCourier.Watching;

namespace GentleCourier.Cli.Tests;

/// <summary>By hand: what was set aside or held is looked at by cause, and comes back, repaired or not.</summary>
public sealed class WayBackTests : IDisposable
{
    private static readonly TimeSpan Lease = TimeSpan.FromSeconds(30);
    private readonly Courier courier = new();

    public void Dispose() => courier.Dispose();

    private static byte[] TapOf(int number) => Encoding.UTF8.GetBytes(
        $$"""{"specversion":"1.0","id":"gate-1/{{number}}","source":"/t","type":"test.tap","""
        + $$"""
        "data":{"number":{{number}}} }
        """);

    private async Task<IBroker> BrokerAsync()
    {
        var broker = new SqliteEngine().CreateBroker(new("sqlite", courier.BrokerFile), TimeProvider.System);
        await broker.PrepareAsync(new Topology(["taps"], [new("test.tap", "taps")]), create: true);
        courier.Environment["COURIER_BROKER"] = courier.Broker;
        return broker;
    }

    /// <summary>Publishes so many taps, and sets them aside.</summary>
    private static async Task SetAsideAsync(
        IBroker broker, int count, Func<int, Outcome.Rejected> why, int first = 0)
    {
        await using var link = await broker.OpenLinkAsync("taps", "pier/7", Lease);
        for (var done = 0; done < count;)
        {
            var some = Math.Min(500, count - done);
            await broker.PublishAsync([.. Enumerable.Range(first + done, some)
                .Select(i => new EncodedEvent($"gate-1/{i}", "test.tap", null, TapOf(i)))]);
            var taken = await link.ReceiveAsync(some, CancellationToken.None);
            await link.SettleAsync(
                [.. taken.Select(d => new Settlement(d, why(NumberOf(d.Json))))], 0, CancellationToken.None);
            done += taken.Count;
        }
    }

    private static int NumberOf(ReadOnlyMemory<byte> json) =>
        int.Parse(CourierEvent.Read(json).Id["gate-1/".Length..], System.Globalization.CultureInfo.InvariantCulture);

    private static Outcome.Rejected ByNumber(int number) => number % 3 == 0
        ? new("no such pier", null)
        : new($"failed all {number} attempts", new Failure("Ferry.CardException", $"card {number} is blocked", "at …"));

    [Fact]
    public async Task Letters_are_told_by_cause_and_those_of_a_cause_are_listed_rehearsed_and_sent_back()
    {
        await using var broker = await BrokerAsync();
        await SetAsideAsync(broker, 9, ByNumber);
        var causes = await courier.RunAsync("dead-letters");
        causes.Says("9 dead letters in");
        Assert.Matches(
            "6×  taps  cause [0-9a-f]{8}  .*\n    test.tap: CardException: card # is blocked\n3×  taps", causes.Output);
        var cause = JsonNode.Parse((await courier.RunAsync("dead-letters", "--json")).Output)![0]!["cause"]!.ToString();

        var list = await courier.RunAsync("dead-letters", "list", "--cause", cause, "--limit", "2");
        list.Says("(the newest 2 of 6; --limit N for more)");
        Assert.Matches("9  taps  .*gate-1/8\n", list.Output);
        (await courier.RunAsync("dead-letters", "list", "--event", "gate-1/3")).Says("no such pier");
        (await courier.RunAsync("dead-letters", "list", "--older-than", "1d")).Says("no dead letters");

        var rehearsed = await courier.RunAsync("dead-letters", "send-back", "--cause", cause, "--rehearse");
        rehearsed.Says("6 dead letters would be sent back");
        rehearsed.Says("no store is named");
        rehearsed.Says("nothing has been changed");
        Assert.Equal(9, (await broker.Reports!.ReadFiguresAsync()).Queues[0].DeadLetters);
        (await courier.RunAsync("dead-letters", "send-back", "--cause", cause))
            .FailsAfter(2, "6 dead letters would be sent back: say --yes");
        (await courier.RunAsync("dead-letters", "send-back", "--cause", cause, "--yes"))
            .Says("6 dead letters sent back");
        // One that is named needs no question.
        (await courier.RunAsync("dead-letters", "send-back", "1")).Says("1 dead letter sent back");
        (await courier.RunAsync("dead-letters", "discard", "--type", "test.tap", "--yes"))
            .Says("2 dead letters discarded");
        var figures = (await broker.Reports!.ReadFiguresAsync()).Queues[0];
        Assert.Equal((7, 0), ((int)figures.Ready!, (int)figures.DeadLetters!));
    }

    [Theory]
    [InlineData(2, "which dead letters? Name their ids", "send-back")]
    [InlineData(2, "but only one of these", "send-back", "1", "--all")]
    [InlineData(2, "but only one of these", "discard", "--all", "--type", "test.tap")]
    [InlineData(1, "there is no dead letter 77", "send-back", "1", "77")]
    [InlineData(1, "queue 'nope' does not exist", "send-back", "--queue", "nope")]
    [InlineData(2, "'soon' is not a time", "discard", "--older-than", "soon")]
    [InlineData(1, "there is no such file", "import", "missing.jsonl")]
    public async Task What_is_not_meant_so_is_refused_and_nothing_is_done(int code, string error, params string[] said)
    {
        await using var broker = await BrokerAsync();
        await SetAsideAsync(broker, 2, ByNumber);
        (await courier.RunAsync(["dead-letters", .. said])).Fails(code, error);
        Assert.Equal(2, (await broker.Reports!.ReadFiguresAsync()).Queues[0].DeadLetters);
    }

    [Fact]
    public async Task What_another_copy_has_done_is_said_and_what_nobody_can_know_any_more_stays()
    {
        await using var broker = await BrokerAsync();
        await using var store = new SqliteEngine().CreateStore(new("sqlite", courier.StoreFile), TimeProvider.System);
        await store.PrepareAsync(create: true);
        await SetAsideAsync(broker, 3, ByNumber);
        await using (var handling = await store.BeginHandlingAsync("taps", [new InboxEvent("/t", "gate-1/2")]))
            await handling!.CommitAsync([]);
        string[] all = ["dead-letters", "send-back", "--all", "--store", courier.Store];
        (await courier.RunAsync([.. all, "--rehearse"])).Says("1 of them were handled already through another copy");

        // Its inbox forgets all that is older than this moment.
        await store.DoAsync(new Chore(ChoreKind.Inbox, null, TimeSpan.Zero), null);
        await SetAsideAsync(broker, 1, ByNumber, first: 3);
        var sent = await courier.RunAsync([.. all, "--yes"]);
        Assert.Equal(0, sent.ExitCode);
        Assert.Contains("3 dead letters older than what inboxes remember stay", sent.Errors, StringComparison.Ordinal);
        Assert.Contains("1 dead letter sent back", sent.Output, StringComparison.Ordinal);
        (await courier.RunAsync([.. all, "--yes", "--though-forgotten"])).Says("3 dead letters sent back");
    }

    [Fact]
    public async Task Letters_are_exported_repaired_by_hand_and_imported_each_once()
    {
        await using var broker = await BrokerAsync();
        await SetAsideAsync(broker, 4, ByNumber);
        await broker.PublishAsync([new EncodedEvent("x", "test.tap", null, "Longsand;0417"u8.ToArray())]);
        await using (var link = await broker.OpenLinkAsync("taps", "pier/7", Lease))
        {
            var taken = await link.ReceiveAsync(1, CancellationToken.None);
            await link.SettleAsync([new(taken[0], new Outcome.Rejected("no event", null))], 0, CancellationToken.None);
        }
        (await courier.RunAsync("dead-letters", "export", "--to", "repair.jsonl"))
            .Says("5 dead letters written to");
        (await courier.RunAsync("dead-letters", "export", "--to", "repair.jsonl")).Fails(1, "is there already");
        var file = Path.Combine(courier.Folder, "repair.jsonl");
        var lines = await File.ReadAllLinesAsync(file);
        Assert.Equal(lines, (await courier.RunAsync("dead-letters", "export")).Output.TrimEnd().Split('\n'));

        var second = JsonNode.Parse(lines[1])!;
        Assert.Equal(("2", "taps", "failed all 1 attempts"), ($"{second["letter"]}",
            $"{second["place"]}", $"{second["reason"]}"));
        second["event"]!["data"]!["number"] = 42;
        // Whatever somebody calls a header of an event, it is one, and comes back.
        foreach (var ours in new[] { "letter", "place", "since", "reason", "event", "base64" })
            second["event"]![ours] = "gate 7";
        await courier.RunAsync("dead-letters", "discard", "3");
        await File.WriteAllLinesAsync(file,
        [
            lines[0], second.ToJsonString(), "", lines[2], lines[3].Replace("test.tap", "", StringComparison.Ordinal),
            lines[4], lines[0], "{}", "nonsense", lines[0].Replace("20", "19", StringComparison.Ordinal),
        ]);
        var rehearsed = await courier.RunAsync("dead-letters", "import", "repair.jsonl", "--rehearse");
        Assert.Contains(
            "2 dead letters would be sent back, 1 of them repaired", rehearsed.Output, StringComparison.Ordinal);
        var imported = await courier.RunAsync("dead-letters", "import", "repair.jsonl", "--yes");
        Assert.Equal(1, imported.ExitCode);
        Assert.Contains("2 dead letters sent back, 1 of them repaired", imported.Output, StringComparison.Ordinal);
        foreach (var problem in new[]
        {
            "1 line: the dead letter has gone", "  line 4: dead letter 3", "6 lines: not taken",
            "line 5: it is not a CloudEvents event", "line 6: its event could not be read, and has not been replaced",
            "line 7: dead letter 1 is in line 1 already", "line 8: it has no 'letter' and 'since'",
            "line 9: it is not a JSON object",
        }) Assert.Contains(problem, imported.Errors, StringComparison.Ordinal);

        var waiting = await broker.Reports!.PeekAsync("taps", 10);
        Assert.Equal([TapOf(0), null], waiting.Select(e => e.History[0].IsRepaired ? null : e.Json.ToArray()));
        Assert.Equal("""{"number":42}""", Encoding.UTF8.GetString(CourierEvent.Read(waiting[1].Json).Data.Span));
        Assert.True(JsonNode.DeepEquals(second["event"], JsonNode.Parse(waiting[1].Json.Span)));
        // A file of another broker is not taken, though the numbers are the same.
        await using var other = new SqliteEngine().CreateBroker(
            new("sqlite", Path.Combine(courier.Folder, "other.db")), TimeProvider.System);
        await other.PrepareAsync(new Topology(["taps"], [new("test.tap", "taps")]), create: true);
        await SetAsideAsync(other, 1, ByNumber);
        await File.WriteAllLinesAsync(file, [lines[0]]);
        var wrong = await courier.RunAsync(
            "dead-letters", "import", "repair.jsonl", "--yes", "--broker", $"sqlite:{courier.Folder}/other.db");
        Assert.Contains("is another one; was the file exported there?", wrong.Errors, StringComparison.Ordinal);
        Assert.Equal(1, (await other.Reports!.ReadFiguresAsync()).Queues[0].DeadLetters);
    }

    [Fact]
    public async Task What_stayed_in_an_outbox_is_told_by_cause_and_tried_again_repaired_or_discarded()
    {
        await using var store = new SqliteEngine().CreateStore(new("sqlite", courier.StoreFile), TimeProvider.System);
        await store.PrepareAsync(create: true);
        await using (var connection = await store.OpenConnectionAsync())
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            await store.AddAsync(transaction,
                [.. Enumerable.Range(0, 4).Select(i => new EncodedEvent($"gate-1/{i}", "test.tap", null, TapOf(i)))]);
            await transaction.CommitAsync();
        }
        var term = (await store.LeadAsync("one", TimeSpan.FromDays(1)))!.Value;
        var rows = (await store.ReadOutboxAsync(10)).Rows;
        await store.MarkAsync(term, new OutboxMarks([], [.. rows.Select((row, i) => i < 2
            ? new HeldRow(row.Row, 1, null, "too odd") : new HeldRow(row.Row, 1, TimeSpan.FromHours(1), "no route"))],
            [], []));
        courier.Environment["COURIER_STORE"] = courier.Store;
        (await courier.RunAsync("outbox")).Says("4 events in the outbox of");
        var list = await courier.RunAsync("outbox", "list");
        list.Says("refused  added");
        list.Says("no route");
        (await courier.RunAsync("outbox", "show", "1")).Says("never: it is refused");

        await courier.RunAsync("outbox", "export", "--to", "out.jsonl");
        var file = Path.Combine(courier.Folder, "out.jsonl");
        var lines = await File.ReadAllLinesAsync(file);
        await File.WriteAllTextAsync(
            file, lines[0].Replace("\"number\":0", "\"number\":77", StringComparison.Ordinal));
        (await courier.RunAsync("outbox", "import", "out.jsonl")).Says("1 event to be tried again, 1 of them repaired");
        (await courier.RunAsync("outbox", "try-again", "3", "4", "--yes")).Says("2 events to be tried again");
        (await courier.RunAsync("outbox", "discard", "2")).Says("1 event discarded");
        Assert.Equal(
            [2, 3, 77], (await store.ReadOutboxAsync(10)).Rows.Select(r => DataOf(r.Event.Json)).Order());
        (await courier.RunAsync("outbox", "--broker", "x")).Fails(2, "--broker");

        static int DataOf(ReadOnlyMemory<byte> json) =>
            JsonNode.Parse(CourierEvent.Read(json).Data.Span)!["number"]!.GetValue<int>();
    }

    [Fact]
    public async Task Two_thousand_letters_go_back_while_workers_run_and_the_command_is_killed_and_the_ledger_balances()
    {
        await using var broker = await BrokerAsync();
        await BalanceAsync(broker);
    }

    [Fact]
    public async Task So_do_they_on_a_server()
    {
        using var server = new PrivatePostgres(
            Directory.CreateTempSubdirectory("courier-postgres-").FullName, "fsync=off");
        var address = server.Create("queues");
        courier.Environment["PGPASSWORD"] = server.Password;
        courier.Environment["COURIER_BROKER"] = address;
        var secret = address.Replace(
            "owner@", $"owner:{Uri.EscapeDataString(server.Password)}@", StringComparison.Ordinal);
        Assert.True(EngineAddress.TryParse(secret, out var parsed));
        await using var broker = new PostgresEngine().CreateBroker(parsed, TimeProvider.System);
        await broker.PrepareAsync(new Topology(["taps"], [new("test.tap", "taps")]), create: true);
        await BalanceAsync(broker);
    }

    private async Task BalanceAsync(IBroker broker)
    {
        const int Count = 2_000;
        await SetAsideAsync(broker, Count, ByNumber);
        var (handled, ending) = (new ConcurrentQueue<string>(), new CancellationTokenSource());
        Task[] workers = [WorkAsync(), WorkAsync()];
        // Killed as soon as something has gone, again and again, until so little is left that it ends before that.
        for (var left = (long)Count; left > 0; left = await LeftAsync())
        {
            using var sending = courier.Start("dead-letters", "send-back", "--all", "--yes");
            while (!sending.HasExited && (left < Count / 4 || await LeftAsync() == left)) await Task.Yield();
            sending.Kill();
            await sending.WaitForExitAsync();
        }
        while ((await broker.Reports!.ReadFiguresAsync()).Queues[0].Waiting > 0) await Task.Yield();
        await ending.CancelAsync();
        await Task.WhenAll(workers);
        var waiting = await broker.Reports!.PeekAsync("taps", Count);
        var ledger = Ledger.Balance(
            Enumerable.Range(0, Count).Select(i => $"gate-1/{i}"), handled,
            waiting.Select(e => CourierEvent.Read(e.Json).Id),
            await broker.DeadLetters!.ReadAllAsync().Select(l => CourierEvent.Read(l.Json).Id).ToListAsync(), 0);
        Assert.True(ledger.Balances, string.Join(", ", ledger.Missing.Concat(ledger.Unexpected)));
        Assert.Equal((Count, 0, 0), (ledger.Handled, ledger.Waiting, ledger.DeadLetters));

        async Task<long> LeftAsync() => (await broker.Reports!.ReadFiguresAsync()).Queues[0].DeadLetters!.Value;

        async Task WorkAsync()
        {
            await Task.Yield();
            await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
            try
            {
                while (true)
                {
                    var taken = await link.ReceiveAsync(50, ending.Token);
                    foreach (var delivery in taken) handled.Enqueue(CourierEvent.Read(delivery.Json).Id);
                    await link.SettleAsync(
                        [.. taken.Select(d => new Settlement(d, Outcome.Accepted))], 0, CancellationToken.None);
                }
            }
            catch (OperationCanceledException)
            {
                // All are handled.
            }
        }
    }
}
