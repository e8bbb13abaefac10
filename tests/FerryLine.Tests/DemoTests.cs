using System.Diagnostics;
using System.Text.Json;

namespace FerryLine.Tests;

/// <summary>The real example, as a user runs it. One after another: each run starts five processes.</summary>
[Collection(OneAtATime)]
public sealed class DemoTests : IDisposable
{
    /// <summary>A day of the ferries wants the machine for itself.</summary>
    public const string OneAtATime = "days";

    private const int TerminalInterrupt = 2;

    private readonly string folder = Directory.CreateTempSubdirectory("ferryline-test-").FullName;
    private readonly List<string> output = [];

    public DemoTests()
    {
        // A server that the demo starts runs as another user, and must be let through to its folder.
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(folder, File.GetUnixFileMode(folder) | UnixFileMode.OtherExecute);
    }

    [Fact]
    public async Task A_worker_that_is_killed_three_times_comes_to_the_figures_of_the_day()
    {
        AssertBalanced(await PlayAsync("--kill-fares", "3"));
        Assert.Equal(3, output.Count(line => line == "Fares was killed, and is started again"));
        // Wrong taps end as dead letters with reasons that a person understands.
        var text = string.Join('\n', output);
        Assert.Contains("there is no pier 'Fogbank', so nobody can have boarded there", text, StringComparison.Ordinal);
        Assert.Contains("the tap is dated 2031-06-15", text, StringComparison.Ordinal);
        Assert.Contains("the body is 'text/csv', not JSON", text, StringComparison.Ordinal);
        Assert.Contains("3 refused as no JSON", text, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("made", "queue-misspelt: nobody receives from queue notices, which has ", "postgres")]
    [InlineData("refused", "queue-unreceived: queue notices has ", "sqlite")]
    public async Task A_worker_on_a_misspelt_queue_is_found_and_the_right_one_named(
        string how, string found, string engine)
    {
        var kept = Directory.CreateTempSubdirectory("ferryline-kept-").FullName;
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(kept, File.GetUnixFileMode(kept) | UnixFileMode.OtherExecute);
        AssertBalanced(await PlayAsync("--misspelt", how, "--keep", kept, "--engine", engine, "--kill-fares", "1"));
        if (engine != "sqlite")
            Assert.Contains($"{engine}://owner@127.0.0.1", string.Join('\n', output), StringComparison.Ordinal);
        Assert.Contains(found, string.Join('\n', output), StringComparison.Ordinal);
        var log = await File.ReadAllTextAsync(Path.Combine(kept, "Notices-misspelt.log"));
        // The day was recorded, with what was found, and drawn.
        Assert.Contains(Path.Combine(kept, "day.png"), string.Join('\n', output), StringComparison.Ordinal);
        Assert.True(new FileInfo(Path.Combine(kept, "day.png")).Length > 10_000);
        var recording = Directory.EnumerateFiles(Path.Combine(kept, "recording"), "*.csv")
            .SelectMany(File.ReadAllLines);
        var row = $",found,{found.Split(':')[0]} notices,";
        Assert.Contains(recording, line => line.Contains(row, StringComparison.Ordinal));
        if (how == "refused") Assert.Contains("did you mean notices?", log, StringComparison.Ordinal);
        Directory.Delete(kept, recursive: true);
    }

    [Fact]
    public async Task Processes_of_every_kind_are_killed_at_random_and_nothing_is_lost_or_acts_twice()
    {
        var ledger = await PlayAsync("chaos", "--events", "1500", "--kills", "10", "--orders", "4", "--seed", "7");
        AssertBalanced(ledger, handled: 2400);
        Assert.Contains(output, line => line.StartsWith(
            "killed: deck-count 2, fares 2, notices 2, publisher 2, relay 2", StringComparison.Ordinal));
        var ordered = Assert.Single(output, line => line.StartsWith("ordered by hand", StringComparison.Ordinal));
        foreach (var what in new[] { "pause 1", "pause of a relay 1", "steer 1" })
            Assert.Contains(what, ordered, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("postgres")]
    [InlineData("amqp")]
    public async Task A_server_is_killed_too_and_nothing_is_lost_or_acts_twice(string engine)
    {
        var ledger = await PlayAsync(
            "chaos", "--engine", engine, "--events", "1000", "--kills", "5", "--server-kills", "2", "--late", "--seed",
            "8");
        AssertBalanced(ledger, handled: 1500);
        Assert.Contains(output, line => line.StartsWith(
            "killed: deck-count 1, fares 1, notices 1, publisher 1, relay 1, server 2", StringComparison.Ordinal));
    }

    [Fact]
    public async Task An_interrupt_stops_it_cleanly_and_nothing_is_left_behind()
    {
        // Long enough that it is still under way when the signal comes, on any machine.
        using var demo = Start("chaos", "--events", "300000", "--kills", "0");
        while (await demo.StandardOutput.ReadLineAsync() is { } line && !line.Contains(
            "waiting:", StringComparison.Ordinal))
        {
        }
        Assert.NotEmpty(Children(demo.Id));
        using (var kill = Process.Start("sh", ["-c", $"kill -{TerminalInterrupt} {demo.Id}"]))
            await kill.WaitForExitAsync();
        var children = Children(demo.Id);
        await demo.StandardOutput.ReadToEndAsync();
        await EndAsync(demo);
        Assert.Equal(130, demo.ExitCode);
        Assert.DoesNotContain(children, id => Directory.Exists($"/proc/{id}"));
        Assert.Empty(Directory.EnumerateDirectories(folder));
    }

    [Fact]
    public async Task The_day_in_the_repository_is_what_the_generator_makes()
    {
        using var demo = Start("generate", folder);
        await EndAsync(demo);
        Assert.Equal(0, demo.ExitCode);
        var data = Path.Combine(Path.GetDirectoryName(Program)!, "Data");
        foreach (var file in new[] { "piers.csv", "sailings.csv", "taps.csv" })
            Assert.Equal(await File.ReadAllTextAsync(Path.Combine(data, file)),
                await File.ReadAllTextAsync(Path.Combine(folder, file)));
    }

    [Theory]
    [InlineData("--kill-fares", "99")]
    [InlineData("chaos", "--events", "1")]
    [InlineData("chaos", "--kills", "-1")]
    [InlineData("--unknown")]
    public async Task A_wrong_option_is_refused_before_anything_starts(params string[] arguments)
    {
        using var demo = Start(arguments);
        await EndAsync(demo);
        Assert.NotEqual(0, demo.ExitCode);
        Assert.Empty(Directory.EnumerateDirectories(folder));
    }

    public void Dispose() => Directory.Delete(folder, recursive: true);

    private static string Program
    {
        get
        {
            var here = AppContext.BaseDirectory.TrimEnd('/');
            return Path.GetFullPath(
                Path.Combine(here, "../../FerryLine.Demo", Path.GetFileName(here), "FerryLine.Demo"));
        }
    }

    private static void AssertBalanced(JsonElement ledger, int handled = 4000)
    {
        int Number(string name) => ledger.GetProperty(name).GetInt32();
        Assert.Equal(Number("published"), Number("handled") + Number("waiting") + Number("deadLetters"));
        Assert.Equal(0, Number("waiting"));
        Assert.Empty(ledger.GetProperty("missing").EnumerateArray());
        Assert.Empty(ledger.GetProperty("unexpected").EnumerateArray());
        Assert.Equal(Number("expectedTakingsCents"), Number("takingsCents"));
        Assert.InRange(Number("handled"), handled, int.MaxValue);
        Assert.True(Number("deadLetters") > 0);
        Assert.True(Number("duplicatesAbsorbed") > 0);
        Assert.Equal(
            ledger.GetProperty("expectedHeadCounts").GetRawText(), ledger.GetProperty("headCounts").GetRawText());
    }

    private async Task<JsonElement> PlayAsync(params string[] options)
    {
        output.Clear();
        var file = Path.Combine(folder, "ledger.json");
        using var demo = Start([.. options, "--ledger", file]);
        while (await demo.StandardOutput.ReadLineAsync() is { } line) output.Add(line);
        await EndAsync(demo);
        Assert.True(demo.ExitCode == 0, string.Join('\n', output) + await demo.StandardError.ReadToEndAsync());
        // Neither a process nor a file is left.
        Assert.Empty(Directory.EnumerateDirectories(folder));
        using var json = JsonDocument.Parse(await File.ReadAllTextAsync(file));
        return json.RootElement.Clone();
    }

    private Process Start(params string[] arguments)
    {
        // A shell that runs the tests in the background has them, and what they start, ignore interrupts.
        var start = new ProcessStartInfo("env", ["--default-signal=INT", Program, .. arguments])
        {
            UseShellExecute = false, RedirectStandardOutput = true, RedirectStandardError = true,
        };
        // Its temporary files go where this test sees whether they are gone at the end.
        start.Environment["TMPDIR"] = folder;
        // The runtime would keep a socket there for as long as it runs.
        start.Environment["DOTNET_EnableDiagnostics"] = "0";
        return Process.Start(start)!;
    }

    private static async Task EndAsync(Process process)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(4));
        await process.WaitForExitAsync(limit.Token);
    }

    private static List<string> Children(int parent) =>
        [.. Directory.EnumerateDirectories($"/proc/{parent}/task").SelectMany(
            task => File.ReadAllText(Path.Combine(task, "children"))
                .Split(' ', StringSplitOptions.RemoveEmptyEntries))];
}
