using System.Diagnostics;
using System.Runtime.InteropServices;

namespace FerryLine.Demo;

/// <summary>
/// A service in a process of its own, started again when it dies, as a supervisor on a server would. Its output goes to
/// a log file beside the databases.
/// </summary>
internal sealed partial class Service : IAsyncDisposable
{
    private const string Listening = "Now listening on: ";
    private const int QuickDeathsAllowed = 10;
    private static readonly TimeSpan RestartPause = TimeSpan.FromMilliseconds(500);
    private static readonly TimeSpan StopLimit = TimeSpan.FromMinutes(1);

    private readonly string program;
    private readonly string name;
    private readonly string folder;
    private readonly IReadOnlyDictionary<string, string> settings;
    private readonly Action<string> report;
    private readonly TaskCompletionSource<Uri> listening = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly Lock gate = new();
    private readonly StreamWriter log;
    private Process process;
    private bool stopping;
    private int quickDeaths;

    /// <param name="program">Which service it is.</param>
    /// <param name="name">How it is called here; several may run one program.</param>
    /// <param name="folder">Where its log goes.</param>
    /// <param name="settings">What it is told.</param>
    /// <param name="report">Told when it dies.</param>
    public Service(
        string program, string name, string folder, IReadOnlyDictionary<string, string> settings, Action<string> report)
    {
        this.program = program;
        this.name = name;
        this.folder = folder;
        this.settings = settings;
        this.report = report;
        log = new StreamWriter(Path.Combine(folder, $"{name}.log")) { AutoFlush = true };
        process = Start();
    }

    public string Name => name;

    /// <summary>Where it listens, for one that does.</summary>
    public Task<Uri> ListensAsync(CancellationToken cancellationToken) =>
        listening.Task.WaitAsync(TimeSpan.FromSeconds(20), cancellationToken);

    /// <summary>Ends it with SIGKILL, without a chance to finish anything.</summary>
    public void Kill()
    {
        lock (gate)
            if (!process.HasExited) process.Kill();
    }

    /// <summary>Asks it to stop, as a deployment does, and waits until it has.</summary>
    public async ValueTask DisposeAsync()
    {
        lock (gate)
        {
            stopping = true;
            if (!process.HasExited) _ = SendSignal(process.Id, SignalTerminate);
        }
        using var limit = new CancellationTokenSource(StopLimit);
        try
        {
            await process.WaitForExitAsync(limit.Token);
        }
        catch (OperationCanceledException)
        {
            report($"{name} did not stop within {StopLimit.TotalSeconds:0} s and is killed");
            process.Kill();
            await process.WaitForExitAsync(CancellationToken.None);
        }
        await log.DisposeAsync();
    }

    private Process Start()
    {
        // Builds lie side by side: …/FerryLine.Demo/debug/ and …/FerryLine.Fares/debug/.
        var here = AppContext.BaseDirectory.TrimEnd(Path.DirectorySeparatorChar);
        var home = Path.GetFullPath(Path.Combine(here, "..", "..", $"FerryLine.{program}", Path.GetFileName(here)));
        var start = new ProcessStartInfo(Path.Combine(home, $"FerryLine.{program}"))
        {
            WorkingDirectory = home,
            UseShellExecute = false,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        foreach (var (key, value) in settings)
            start.Environment[key.Replace(":", "__", StringComparison.Ordinal)] = value;
        start.Environment["DOTNET_TieredPGO"] = "0";

        var started = new Process { StartInfo = start, EnableRaisingEvents = true };
        started.OutputDataReceived += (_, line) => Note(line.Data);
        started.ErrorDataReceived += (_, line) => Note(line.Data);
        started.Exited += (_, _) => StartAgain(started.ExitCode);
        started.Start();
        started.BeginOutputReadLine();
        started.BeginErrorReadLine();
        return started;
    }

    private void StartAgain(int exitCode)
    {
        lock (gate)
        {
            if (stopping) return;
            if (exitCode == 128 + 9)
            {
                report($"{name} was killed, and is started again");
            }
            else if (++quickDeaths > QuickDeathsAllowed)
            {
                listening.TrySetException(
                    new InvalidOperationException($"{name} does not stay up; read {Path.Combine(folder, name)}.log"));
                report($"{name} ended with exit code {exitCode} again and again, and is given up");
                return;
            }
            else
            {
                report($"{name} ended with exit code {exitCode}, and is started again");
            }
        }
        // One that cannot start yet, since its database is away, is given a moment.
        if (exitCode != 128 + 9) Thread.Sleep(RestartPause);
        lock (gate)
            if (!stopping) process = Start();
    }

    private void Note(string? line)
    {
        if (line is null) return;
        var at = line.IndexOf(Listening, StringComparison.Ordinal);
        if (at >= 0) listening.TrySetResult(new Uri(line[(at + Listening.Length)..].Trim()));
        lock (log)
            if (log.BaseStream is { CanWrite: true }) log.WriteLine(line);
    }

    private const int SignalTerminate = 15;

    [LibraryImport("libc", EntryPoint = "kill")]
    internal static partial int SendSignal(int process, int signal);
}
