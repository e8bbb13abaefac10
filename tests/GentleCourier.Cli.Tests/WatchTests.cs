using System.Diagnostics;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using GentleCourier.Engines;
using GentleCourier.Sqlite;

namespace GentleCourier.Cli.Tests;

/// <summary>Watching, by the real command on a real terminal, and piped.</summary>
public sealed partial class WatchTests : IDisposable
{
    private const string Down = "\eOB", Enter = "\r", Escape = "\e", End = "q";

    private readonly Courier courier = new();
    private readonly StringBuilder seen = new();

    public void Dispose() => courier.Dispose();

    [GeneratedRegex(@"\e\[[0-9;?]*[a-zA-Z]|\e[=>]|\e\([A-Z]", RegexOptions.None, 5000)]
    private static partial Regex Controls { get; }

    [GeneratedRegex(@"\e\[([0-9]+;)*(3[0-7]|38|4[0-7]|48|9[0-7])[;m]", RegexOptions.ExplicitCapture, 5000)]
    private static partial Regex Colours { get; }

    private async Task<IBroker> BrokerAsync(int queues)
    {
        var broker = new SqliteEngine().CreateBroker(new("sqlite", courier.BrokerFile), TimeProvider.System);
        string[] names = [.. Enumerable.Range(1, queues).Select(i => $"pier-{i:000}")];
        await broker.PrepareAsync(new Topology(names, [.. names.Select(n => new Route($"test.{n}", n))]), create: true);
        return broker;
    }

    private static Task<IReadOnlyList<PublishResult>> PublishAsync(
        IBroker broker, string queue, params string[] ids) => broker.PublishAsync(
        [.. ids.Select(id => new EncodedEvent(id, $"test.{queue}", null, Encoding.UTF8.GetBytes(
            $$"""{"specversion":"1.0","id":"{{id}}","source":"/t","type":"test.{{queue}}","data":{} }""")))]);

    private void Listen(Process process)
    {
        _ = Task.Run(async () =>
        {
            var buffer = new char[4096];
            while (await process.StandardOutput.ReadAsync(buffer) is > 0 and var read)
                lock (seen) seen.Append(buffer, 0, read);
        });
    }

    /// <summary>What was drawn since a place in the output, without what moves the cursor.</summary>
    private string Since(int place)
    {
        lock (seen) return Controls.Replace(seen.ToString(place, seen.Length - place), "");
    }

    private int Place()
    {
        lock (seen) return seen.Length;
    }

    [GeneratedRegex(@"\s+", RegexOptions.None, 5000)]
    private static partial Regex Spaces { get; }

    /// <summary>Wherever its lines are broken: that depends on how long the folder's name is.</summary>
    private async Task UntilAsync(string text, int since = 0)
    {
        var sought = Spaces.Replace(text, " ");
        for (var began = Stopwatch.GetTimestamp(); ; await Task.Delay(20))
        {
            var drawn = Since(since);
            if (Spaces.Replace(drawn, " ").Contains(sought, StringComparison.Ordinal)) return;
            Assert.True(Stopwatch.GetElapsedTime(began) < Courier.Limit, $"no '{text}' came in\n{drawn}");
        }
    }

    private static async Task TypeAsync(Process process, string keys)
    {
        await process.StandardInput.WriteAsync(keys);
        await process.StandardInput.FlushAsync();
    }

    [Theory]
    [InlineData(80, 30)]
    [InlineData(160, 45)]
    public async Task On_a_terminal_keys_choose_a_queue_and_look_closer_and_an_absent_broker_is_waited_for(
        int columns, int rows)
    {
        await using var broker = await BrokerAsync(3);
        await PublishAsync(broker, "pier-002", "gate-1", "gate-2", "gate-3");
        await using (var link = await broker.OpenLinkAsync("pier-002", "w", TimeSpan.FromSeconds(30)))
        {
            var taken = await link.ReceiveAsync(1, CancellationToken.None);
            await link.SettleAsync([new(taken[0], new Outcome.Rejected("no \e[31mpier 7", null))], 0,
                CancellationToken.None);
        }
        using var watch = courier.StartOnTerminal(
            columns, rows, "watch", "--broker", courier.Broker, "--every", "500ms");
        Listen(watch);
        await UntilAsync("1 wrong");
        await UntilAsync("queue pier-002 has 2 events waiting");

        await TypeAsync(watch, Down);
        await UntilAsync(">  pier-002");
        await TypeAsync(watch, Enter);
        await UntilAsync("2 ready, 0 in hand, 0 later, 1 dead letters");
        await UntilAsync("gate-3");
        if (rows > 40) await UntilAsync("    1×  no");
        await TypeAsync(watch, Escape);
        await UntilAsync("enter: look closer", Place());

        // What was seen last stays, and is said to be old.
        File.Move(courier.BrokerFile, courier.BrokerFile + ".away");
        await UntilAsync("what is shown is");
        await UntilAsync(">  pier-002", Place());
        File.Move(courier.BrokerFile + ".away", courier.BrokerFile);
        await PublishAsync(broker, "pier-003", "late-1", "late-2", "late-3", "late-4");
        await UntilAsync("queue pier-003 has 4 events waiting", Place());

        await TypeAsync(watch, End);
        await watch.WaitForExitAsync().WaitAsync(Courier.Limit);
        Assert.Equal(0, watch.ExitCode);
        string raw;
        lock (seen) raw = seen.ToString();
        Assert.Contains("\e[?1049l", raw, StringComparison.Ordinal);
        Assert.DoesNotMatch(Colours, raw);
        Assert.All(Since(0).Split('\n'), line => Assert.InRange(line.TrimEnd('\r').Split('\r')[^1].Length, 0, columns));
    }

    [Fact]
    public async Task A_list_longer_than_the_screen_follows_the_queue_that_is_chosen_and_may_be_ordered()
    {
        await using var broker = await BrokerAsync(200);
        await PublishAsync(broker, "pier-150", [.. Enumerable.Range(0, 7).Select(i => $"e-{i}")]);
        using var watch = courier.StartOnTerminal(80, 24, "watch", "--broker", courier.Broker, "--every", "500ms");
        Listen(watch);
        await UntilAsync("of 200");
        Assert.DoesNotContain("pier-200", Since(0), StringComparison.Ordinal);
        await TypeAsync(watch, "\e[F");
        await UntilAsync(">  pier-200", Place());
        // By what waits: the only one that has something comes first.
        await TypeAsync(watch, "o\e[H");
        await UntilAsync(">  pier-150", Place());
        await TypeAsync(watch, End);
        await watch.WaitForExitAsync().WaitAsync(Courier.Limit);
        Assert.Equal(0, watch.ExitCode);
    }

    [Fact]
    public async Task Piped_it_says_one_line_a_look_and_ends_when_it_is_told_to()
    {
        await using var broker = await BrokerAsync(2);
        await PublishAsync(broker, "pier-001", "a", "b");
        using (var lines = courier.Open("watch", "--broker", courier.Broker, "--every", "500ms"))
        {
            for (var i = 0; i < 2; i++)
                Assert.Matches(@"^\d{4}-\d\d-\d\d [\d:]+Z  2 wait in 2 queues; pier-001 2 \(lag unknown\); .*"
                    + "wrong: queue-unreceived pier-001$", await lines.StandardOutput.ReadLineAsync());
            using var interrupt = Process.Start("kill", ["-INT", $"{lines.Id}"]);
            await lines.WaitForExitAsync().WaitAsync(Courier.Limit);
            Assert.Equal((0, ""), (lines.ExitCode, await lines.StandardError.ReadToEndAsync()));
        }
        using var json = courier.Open("watch", "--broker", courier.Broker, "--every", "500ms", "--json");
        for (var i = 0; i < 2; i++)
        {
            var status = JsonDocument.Parse((await json.StandardOutput.ReadLineAsync())!).RootElement;
            Assert.Equal(2, status.GetProperty("queues")[0].GetProperty("ready").GetInt64());
            Assert.Equal("pier-001", status.GetProperty("findings")[0].GetProperty("subject").GetString());
        }
        json.Kill();
        (await courier.RunAsync("watch", "--broker", courier.Broker, "--queue", "peer"))
            .Fails(1, "has no queue 'peer'; it has pier-001, pier-002");
        (await courier.RunAsync("watch", "--broker", courier.Broker, "--every", "1ms"))
            .FailsAfter(2, "--every must be");
    }
}
