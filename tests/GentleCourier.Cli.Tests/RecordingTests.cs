using System.Diagnostics;
using System.Globalization;
using System.Text;
using System.Text.Json;
using GentleCourier.Engines;
using GentleCourier.Sqlite;
using SkiaSharp;

namespace GentleCourier.Cli.Tests;

/// <summary>What is recorded, drawn and forecast, by the real command.</summary>
public sealed class RecordingTests : IDisposable
{
    private const string Header = "time,kind,name,ready,in_hand,scheduled,dead_letters,oldest_s,came,handled,failed,"
        + "set_aside,workers,handlers,busy,every_s,text";
    private static readonly DateTimeOffset Begin = new(2031, 6, 14, 6, 0, 0, TimeSpan.Zero);

    private readonly Courier courier = new();

    private string Folder => Path.Combine(courier.Folder, "recording");

    public void Dispose() => courier.Dispose();

    private static IBroker Broker(Courier courier) =>
        new SqliteEngine().CreateBroker(new("sqlite", courier.BrokerFile), TimeProvider.System);

    private static Task<IReadOnlyList<PublishResult>> PublishAsync(IBroker broker, int number) =>
        broker.PublishAsync([new EncodedEvent(
        $"{number}", "test.tap", null, Encoding.UTF8.GetBytes(
            $$"""{"specversion":"1.0","id":"{{number}}","source":"/t","type":"test.tap","data":{} }"""))]);

    private string[] Rows() => !Directory.Exists(Folder) ? []
        : [.. Directory.EnumerateFiles(Folder, "*.csv").SelectMany(ReadLines)];

    /// <summary>Also while it is being written.</summary>
    private static IEnumerable<string> ReadLines(string path)
    {
        using var file = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
        using var reader = new StreamReader(file);
        while (reader.ReadLine() is { } line) yield return line;
    }

    private async Task UntilAsync(Func<bool> condition, string what)
    {
        for (var began = Stopwatch.GetTimestamp(); !condition(); await Task.Delay(20))
            Assert.True(Stopwatch.GetElapsedTime(began) < Courier.Limit,
                $"waited in vain until {what}; recorded is:\n{string.Join('\n', Rows().TakeLast(30))}");
    }

    private async Task<JsonElement> PlotAsync(params string[] more)
    {
        var result = await courier.RunAsync(["plot", "--dir", Folder, "--json", .. more]);
        Assert.Equal(("", 0), (result.Errors, result.ExitCode));
        return JsonDocument.Parse(result.Output).RootElement;
    }

    private static List<JsonElement> Points(JsonElement plot, int queue = 0) =>
        [.. plot.GetProperty("queues")[queue].GetProperty("points").EnumerateArray()];

    [Fact]
    public async Task A_recording_survives_kills_and_an_absent_broker_and_shows_both_as_gaps()
    {
        await using var broker = Broker(courier);
        await broker.PrepareAsync(new Topology(["taps"], [new("test.tap", "taps")]), create: true);
        string[] record = ["record", "--dir", Folder, "--every", "100ms", "--broker", courier.Broker];
        int Looks() => Rows().Count(r => r.Contains(",look,", StringComparison.Ordinal));
        using (var first = courier.Start(record))
        {
            await UntilAsync(() => Looks() >= 5, "it has looked");
            (await courier.RunAsync(record)).FailsAfter(2, "another process records into");
            await PublishAsync(broker, 1);
            await UntilAsync(() => Rows().Any(r => r.Contains(",queue,taps,1,", StringComparison.Ordinal)),
                "what has changed is written");
            first.Kill();
            await first.WaitForExitAsync();
        }
        // As a kill in the middle of a write would leave it.
        await File.AppendAllTextAsync(
            Directory.EnumerateFiles(Folder, "*.csv").Last(), "2031-06-14T06:00:00.000Z,queue,\"ta");
        (await courier.RunAsync("record", "note", "harbour 2.4, \"red\"", "--dir", Folder)).Says("");

        var before = Looks();
        using (var second = courier.Start(record))
        {
            await UntilAsync(() => Looks() >= before + 3, "the next one has looked");
            File.Move(courier.BrokerFile, courier.BrokerFile + ".away");
            await UntilAsync(() => Rows().Any(r => r.Contains(",found,broker-unreachable", StringComparison.Ordinal)),
                "it has found that the broker is away");
            var away = Looks();
            File.Move(courier.BrokerFile + ".away", courier.BrokerFile);
            await UntilAsync(() => Looks() >= away + 3, "it goes on");
            Assert.Contains(Rows(), r => r.Contains(",over,broker-unreachable", StringComparison.Ordinal));
            second.Kill();
            await second.WaitForExitAsync();
        }

        var plot = await PlotAsync();
        var points = Points(plot);
        Assert.Equal("taps", plot.GetProperty("queues")[0].GetProperty("name").GetString());
        Assert.Contains(points, p => p.ValueKind == JsonValueKind.Null);
        Assert.Equal(1, points[^1].GetProperty("waiting").GetInt64());
        Assert.Equal(0, points[0].GetProperty("waiting").GetInt64());
        Assert.Contains("harbour 2.4, \"red\"", plot.GetProperty("marks")[0].GetProperty("what").GetString());
        Assert.Contains(plot.GetProperty("findings").EnumerateArray(),
            f => f.GetProperty("finding").GetString()!.StartsWith("broker-unreachable", StringComparison.Ordinal));
    }

    /// <summary>Each file can be read alone; a finding that goes on is one.</summary>
    [Fact]
    public async Task A_day_begins_with_all_that_is_known()
    {
        await using var broker = Broker(courier);
        await broker.PrepareAsync(new Topology(["taps"], [new("test.tap", "taps")]), create: true);
        await PublishAsync(broker, 1);
        var faked = await courier.RunProgramAsync(Path.Combine(Packages.RepositoryRoot(), "eng/othertime.sh"), []);
        courier.Environment["LD_PRELOAD"] = faked.Output.Trim();
        courier.Environment["FAKETIME"] = "@2031-06-14 23:59:57";
        courier.Environment["TZ"] = "UTC";
        var second = Path.Combine(Folder, "2031-06-15.csv");
        courier.Start("record", "--dir", Folder, "--every", "200ms", "--broker", courier.Broker);
        await UntilAsync(() => File.Exists(second) && ReadLines(second).Count(r => r.Contains(",look,")) >= 3,
            "the next day has begun");

        var rows = ReadLines(second).ToList();
        Assert.Equal(Header, rows[0]);
        Assert.Single(rows, r => r.Contains(",found,queue-unreceived taps,", StringComparison.Ordinal));
        Assert.DoesNotContain(rows, r => r.Contains(",start,", StringComparison.Ordinal));
        courier.Environment.Remove("LD_PRELOAD");
        var plot = await PlotAsync();
        var found = Assert.Single(plot.GetProperty("findings").EnumerateArray());
        Assert.StartsWith("2031-06-14T23:59:5", found.GetProperty("from").GetString(), StringComparison.Ordinal);
        Assert.StartsWith("2031-06-15T00:00:0", found.GetProperty("to").GetString(), StringComparison.Ordinal);
    }

    /// <summary>A day that is made up: looks every ten seconds, from a time on.</summary>
    private void Write(int looks, Func<int, string?> queue, DateTimeOffset? from = null, params string[] more)
    {
        Directory.CreateDirectory(Folder);
        var files = new Dictionary<string, StringBuilder>();
        for (var i = 0; i < looks; i++)
        {
            var at = (from ?? Begin).AddSeconds(10 * i);
            var day = at.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);
            if (!files.TryGetValue(day, out var file)) files[day] = file = new StringBuilder(Header).Append('\n');
            if (queue(i) is not { } row) continue;
            file.Append(CultureInfo.InvariantCulture, $"{at:yyyy-MM-ddTHH:mm:ss.fffZ},queue,{row},\n");
            file.Append(CultureInfo.InvariantCulture, $"{at:yyyy-MM-ddTHH:mm:ss.fffZ},look,b,,,,,,,,,,,,,10,\n");
        }
        foreach (var (day, file) in files)
            File.WriteAllText(Path.Combine(Folder, $"{day}.csv"), file + string.Concat(more.Select(m => m + "\n")));
    }

    // name, ready, in hand, scheduled, dead, oldest, came, handled, failed, set aside, workers, handlers, busy, every
    private static string Steady(int look, int perLook = 100, double busy = 0.5) => string.Create(
        CultureInfo.InvariantCulture, $"fares,0,0,0,0,0,{look * perLook},{look * perLook},0,0,2,2,{busy},");

    [Fact]
    public async Task A_recorded_day_gives_the_same_plot_again_and_a_gap_shows_as_one()
    {
        // Nobody looked from 06:10 to 06:20.
        Write(360, i => i is >= 60 and < 120 ? null : Steady(i), null,
            "2031-06-14T06:30:00.000Z,deployment,fares,,,,,,,,,,,,,,1.0 → 1.1",
            "2031-06-14T06:31:00.000Z,found,queue-growing fares,,,,,,,,,,,,,,grows",
            "2031-06-14T07:00:00.000Z,look,b,,,,,,,,,,,,,10,");
        var plot = await PlotAsync();
        var points = Points(plot);
        var gap = Assert.Single(points.Index(), p => p.Item.ValueKind == JsonValueKind.Null).Index;
        Assert.Equal("2031-06-14T06:09:50+00:00", points[gap - 1].GetProperty("at").GetString());
        Assert.Equal("2031-06-14T06:20:00+00:00", points[gap + 1].GetProperty("at").GetString());
        // Rates are those between two looks, and none is said over a gap.
        Assert.All(points[..^1].Where((_, i) => i > 0 && i != gap && i != gap + 1),
            p => Assert.Equal(10, p.GetProperty("arrivalsPerSecond").GetDouble(), 6));
        Assert.Equal(JsonValueKind.Null, points[gap + 1].GetProperty("arrivalsPerSecond").ValueKind);
        Assert.Equal("fares 1.0 → 1.1", plot.GetProperty("marks")[0].GetProperty("what").GetString());

        var pictures = new List<byte[]>();
        foreach (var name in new[] { "one.svg", "two.svg", "one.png", "two.png" })
        {
            var file = Path.Combine(courier.Folder, "pictures", name);
            (await courier.RunAsync("plot", "--dir", Folder, "--out", file)).Says($"drawn into {file}");
            pictures.Add(await File.ReadAllBytesAsync(file));
        }
        Assert.Equal(pictures[0], pictures[1]);
        Assert.Equal(pictures[2], pictures[3]);
        var text = Encoding.UTF8.GetString(pictures[0]);
        foreach (var said in new[] { "waiting (events)", "oldest (s)", "events a second", "fares",
            "queue-growing fares", "fares 1.0 → 1.1" })
            Assert.Contains(said, text, StringComparison.Ordinal);
        // Each panel is there, on paper.
        using var picture = SKBitmap.Decode(pictures[2]);
        Assert.Equal((1280, 800), (picture.Width, picture.Height));
        for (var y = 5; y < picture.Height; y += 10) Assert.Equal("fffbfaf5", $"{(uint)picture.GetPixel(5, y):x}");
    }

    /// <summary>Where the clock is set back, an hour is there twice; every tick stands where its moment is.</summary>
    [Fact]
    public async Task Local_times_are_right_on_the_day_on_which_the_clock_is_set_back()
    {
        Write(4 * 360, i => Steady(i), new DateTimeOffset(2026, 10, 24, 23, 0, 0, TimeSpan.Zero));
        courier.Environment["TZ"] = "Europe/Berlin";
        var file = Path.Combine(courier.Folder, "day.svg");
        (await courier.RunAsync("plot", "--dir", Folder, "--out", file)).Says("drawn into");
        var svg = await File.ReadAllTextAsync(file);
        int Times(string time) => svg.Split(time).Length - 1;
        Assert.Equal((1, 2, 1), (Times("01:30"), Times("02:30"), Times("03:30")));
        // Local times of the command line, too: from the first of the two, to the end.
        Assert.True(Points(await PlotAsync("--from", "2026-10-25 03:30")).Count < 182);
        (await courier.RunAsync("plot", "--dir", Folder, "--from", "2026-11-25", "--out", file))
            .Fails(2, "there is 2026-10-25 01:00:00 to 2026-10-25 03:59:50");
    }

    [Fact]
    public async Task A_long_recording_becomes_a_picture_of_bounded_detail_that_hides_no_peak()
    {
        // A whole day; one look of 8,640 sees a crowd.
        Write(8640, i => i == 4321 ? "fares,5000,0,0,0,7,432100,432100,0,0,2,2,0.5," : Steady(i));
        var points = Points(await PlotAsync());
        Assert.InRange(points.Count, 500, 700);
        Assert.Equal(5000, points.Max(p => p.GetProperty("waiting").GetInt64()));
    }

    [Fact]
    public async Task Mistakes_in_drawing_are_named()
    {
        async Task FailsAsync(string error, params string[] arguments) =>
            (await courier.RunAsync(["plot", "--dir", Folder, .. arguments])).Fails(2, error);

        var picture = Path.Combine(courier.Folder, "day.png");
        await FailsAsync("nothing is recorded in", "--out", picture);
        Write(30, i => Steady(i));
        await FailsAsync("say --out FILE.png, or --json");
        await FailsAsync("--out must end with .png or .svg", "--out", "day.jpg");
        await FailsAsync("nothing of queue 'faers' is recorded then", "--queue", "faers", "--out", picture);
        await FailsAsync("there is fares", "--queue", "faers", "--out", picture);
        await FailsAsync("--size '12' is not like 1280x800", "--size", "12", "--out", "day.png");
        await FailsAsync("--from 'noon' is no time", "--from", "noon", "--out", picture);
        await FailsAsync("say --from or --last, not both", "--from", "06:00", "--last", "1h", "--out", picture);
        await File.WriteAllTextAsync(Path.Combine(Folder, "2031-06-15.csv"), "a,b\n1,2\n");
        await FailsAsync("is no recording: its first line must name time,kind", "--out", picture);
    }

    /// <summary>Two workers that are half busy with ten a second can do twenty, ten each.</summary>
    [Fact]
    public async Task A_forecast_goes_by_what_was_recorded()
    {
        Write(360, i => Steady(i));
        string[] forecast = ["forecast", "--dir", Folder, "--queue", "fares", "--outage", "10m"];
        var json = JsonDocument.Parse((await courier.RunAsync([.. forecast, "--json", "--longest-wait", "15m"])).Output)
            .RootElement;
        Assert.Equal(10, json.GetProperty("arrivalsPerSecond").GetDouble(), 3);
        Assert.Equal(10, json.GetProperty("handledPerSecondByWorker").GetDouble(), 3);
        Assert.Equal(6000, json.GetProperty("waitingAtItsEnd").GetProperty("about").GetDouble(), 0);
        Assert.Equal(1200, json.GetProperty("goneInSeconds").GetProperty("about").GetDouble(), 0);
        Assert.Equal(600, json.GetProperty("longestWaitSeconds").GetProperty("about").GetDouble(), 0);
        Assert.Equal(2, json.GetProperty("workersForLongestWait").GetInt32());

        var picture = Path.Combine(courier.Folder, "plan.svg");
        var said = await courier.RunAsync([.. forecast, "--longest-wait", "9m", "--out", picture]);
        said.Says("10 come a second, 2 workers can handle 20");
        said.Says("waiting at its end     6,000");
        said.Says("no number of workers keeps the wait under 9 min: what comes when the outage begins waits 10 min");
        Assert.Contains("nobody handles anything for 10 min", await File.ReadAllTextAsync(picture),
            StringComparison.Ordinal);
        (await courier.RunAsync("forecast", "--come", "20", "--handle", "4", "--workers", "4", "--outage", "30m"))
            .Says("more comes than these workers handle");
    }

    /// <summary>While events wait, workers show what they can do, however busy they say that they are.</summary>
    [Fact]
    public async Task What_workers_do_while_events_wait_goes_before_what_they_say()
    {
        Write(360, i => string.Create(CultureInfo.InvariantCulture,
            $"fares,{i * 50},2,0,0,9,{i * 100},{i * 50},0,0,2,2,0.1,"));
        var json = JsonDocument.Parse((await courier.RunAsync(
            "forecast", "--dir", Folder, "--queue", "fares", "--outage", "10m", "--json")).Output).RootElement;
        Assert.Equal(2.5, json.GetProperty("handledPerSecondByWorker").GetDouble(), 3);
        Assert.False(json.GetProperty("catchesUp").GetBoolean());
        Assert.Equal(JsonValueKind.Null, json.GetProperty("goneInSeconds").ValueKind);
    }

    [Fact]
    public async Task Mistakes_in_forecasting_are_named()
    {
        async Task FailsAsync(string error, params string[] arguments) =>
            (await courier.RunAsync(["forecast", .. arguments])).Fails(2, error);

        await FailsAsync("say --dir and --queue, for rates that are recorded, or --come and --handle");
        await FailsAsync("say --come, --handle (above 0) and --workers", "--come", "20");
        await FailsAsync("say of which --queue", "--dir", (MadeUp(5), Folder).Folder);
        await FailsAsync("only 4 looks with counts at queue 'fares' are recorded", "--dir", Folder, "--queue", "fares");
        await FailsAsync("nothing of queue 'faers' is recorded", "--dir", Folder, "--queue", "faers");
        Write(50, i => Steady(i, busy: 0));
        await FailsAsync("none was seen at work", "--dir", Folder, "--queue", "fares");

        object? MadeUp(int looks)
        {
            Write(looks, i => Steady(i));
            return null;
        }
    }
}
