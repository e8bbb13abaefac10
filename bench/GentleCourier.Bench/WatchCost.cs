using System.Diagnostics;
using System.Globalization;
using GentleCourier.Bench.Postgres;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Sqlite;
using GentleCourier.Watching;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Bench;

/// <summary>
/// What `courier watch` costs over many queues with a full history each: its own process on a terminal, and the
/// server when ten watch.
/// </summary>
internal static class WatchCost
{
    private const int Queues = 200, Watchers = 10, TicksPerSecond = 100;
    private static readonly TimeSpan WarmUp = TimeSpan.FromSeconds(15), Measured = TimeSpan.FromSeconds(30);

    public static async Task<int> RunAsync(string[] _)
    {
        Console.WriteLine($"{Queues} queues, a look every two seconds");
        await using (var workshop = new Workshop())
        {
            var address = $"sqlite:{workshop.BrokerFile}";
            await FillAsync(new SqliteEngine(), address);
            Print("SQLite: one watcher", await WatchAsync(address, 1, () => 0));
        }
        await using var server = new ServerWorkshop();
        var broker = ServerWorkshop.Address("watched");
        await FillAsync(new PostgresEngine(), broker);
        Print("PostgreSQL: one watcher", await WatchAsync(broker, 1, () => 0));
        Print($"  the server with {Watchers} of them", await WatchAsync(broker, Watchers, ServerTicks));
        return 0;
    }

    private static void Print(string what, double seconds) =>
        Console.WriteLine($"{what,-32} {seconds / Measured.TotalSeconds,6:0.0 %} of a core");

    /// <summary>Ten minutes of a busy day, as one worker's beats write it.</summary>
    private static async Task FillAsync(IEngine engine, string address)
    {
        var clock = new FakeTimeProvider(DateTimeOffset.UtcNow - TimeSpan.FromMinutes(10));
        if (!EngineAddress.TryParse(address, out var parsed)) throw new FormatException(address);
        await using var broker = engine.CreateBroker(parsed, clock);
        string[] names = [.. Enumerable.Range(0, Queues).Select(i => $"pier-{i:000}")];
        await broker.PrepareAsync(new Topology(names, [.. names.Select(n => new Route(n, n))]), create: true);
        var worker = new WorkerFigures("w", "host/1", "1.0", clock.GetUtcNow(),
            [.. names.Select(n => new ReceiverFigures(n, [n], "50", 1))]);
        for (var beat = 0; beat < 60; beat++)
        {
            await broker.PublishAsync([.. names.Where((_, i) => (i + beat) % 7 == 0).Select(n =>
                new EncodedEvent($"{n}/{beat}", n, null, Workshop.Json(beat)))]);
            clock.Advance(TimeSpan.FromSeconds(10));
            await broker.Register!.BeatAsync(worker, TimeSpan.FromHours(1));
        }
    }

    /// <summary>CPU seconds of a number of watchers, or of whatever is asked for instead.</summary>
    private static async Task<double> WatchAsync(string address, int watchers, Func<double> others)
    {
        var here = AppContext.BaseDirectory.TrimEnd(Path.DirectorySeparatorChar);
        var command = Path.GetFullPath(
            Path.Combine(here, "..", "..", "GentleCourier.Cli", Path.GetFileName(here), "courier"));
        var terminals = Enumerable.Range(0, watchers).Select(_ =>
        {
            var start = new ProcessStartInfo("script",
                ["-qfec", $"stty cols 160 rows 45; exec {command} watch --broker '{address}'", "/dev/null"])
            {
                UseShellExecute = false, RedirectStandardInput = true, RedirectStandardOutput = true,
            };
            var terminal = Process.Start(start)!;
            terminal.OutputDataReceived += static (_, _) => { };
            terminal.BeginOutputReadLine();
            return terminal;
        }).ToList();
        await Task.Delay(WarmUp);
        var own = Process.GetProcessesByName("courier");
        var before = (own.Sum(Ticks), others());
        await Task.Delay(Measured);
        var after = (own.Sum(Ticks), others());
        foreach (var process in own) process.Kill();
        foreach (var terminal in terminals) await terminal.WaitForExitAsync();
        return (watchers == 1 ? after.Item1 - before.Item1 : after.Item2 - before.Item2) / TicksPerSecond;
    }

    /// <summary>Of all of its processes, which are called by what they do.</summary>
    private static double ServerTicks() => Process.GetProcesses()
        .Where(p => p.ProcessName.StartsWith("postgres", StringComparison.Ordinal)).Sum(Ticks);

    /// <summary>User and system time, as the kernel counts it.</summary>
    private static double Ticks(Process process)
    {
        var stat = File.ReadAllText($"/proc/{process.Id}/stat");
        var fields = stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
        return double.Parse(fields[11], CultureInfo.InvariantCulture)
            + double.Parse(fields[12], CultureInfo.InvariantCulture);
    }
}
