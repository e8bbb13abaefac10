using System.Collections.Concurrent;
using System.Diagnostics;
using System.Runtime.InteropServices;

namespace GentleCourier.Conformance;

/// <summary>A publisher, a relay or a receiver in a process of its own, to be killed.</summary>
public sealed class Rig : IDisposable
{
    private static readonly Lazy<string> OtherTime = new(FindOtherTime);
    private readonly Process process;
    private readonly string role;

    /// <param name="crossing">Whose broker and stores it uses.</param>
    /// <param name="role"><c>publish</c>, <c>relay</c> or <c>receive</c>.</param>
    /// <param name="service">Whose store it uses.</param>
    /// <param name="settings">Further settings, <c>name=value</c>.</param>
    public Rig(Crossing crossing, string role, string service, params string[] settings)
        : this(null, crossing, role, service, settings)
    {
    }

    /// <param name="clock">
    /// How far its clock is off, such as <c>+1h</c>, or the path of a file that says so, and may be changed; null: not
    /// at all.
    /// </param>
    /// <param name="crossing">Whose broker and stores it uses.</param>
    /// <param name="role">As of the others.</param>
    /// <param name="service">Whose store it uses.</param>
    /// <param name="settings">Further settings, <c>name=value</c>.</param>
    public static Rig WithClock(
        string? clock, Crossing crossing, string role, string service, params string[] settings) =>
        new(clock, crossing, role, service, settings);

    private Rig(string? clock, Crossing crossing, string role, string service, string[] settings)
    {
        this.role = role;
        var here = AppContext.BaseDirectory.TrimEnd('/');
        var program = Path.Combine(here, "../../CrashRig", Path.GetFileName(here), "CrashRig");
        string[] all = [$"Courier:Store={crossing.StoreAddress(service)}", $"Courier:Broker={crossing.BrokerAddress}",
            .. crossing.PlaceSettings, .. settings];
        var start = new ProcessStartInfo(program, [role, .. all.Select(s => $"--{s}")])
        {
            UseShellExecute = false,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        if (clock is not null)
        {
            start.Environment["LD_PRELOAD"] = OtherTime.Value;
            if (Path.IsPathRooted(clock))
            {
                start.Environment["FAKETIME_TIMESTAMP_FILE"] = clock;
                start.Environment["FAKETIME_NO_CACHE"] = "1";
            }
            else
            {
                start.Environment["FAKETIME"] = clock;
            }
            // How long something takes is not for a clock that is wrong to say.
            start.Environment["FAKETIME_DONT_FAKE_MONOTONIC"] = "1";
        }
        process = Process.Start(start)!;
        process.OutputDataReceived += (_, line) => Keep(line.Data);
        process.BeginOutputReadLine();
        process.ErrorDataReceived += (_, line) => Keep(line.Data);
        process.BeginErrorReadLine();
    }

    /// <summary>128 + SIGKILL, as a process that was killed reports it.</summary>
    public const int Killed = 137;

    /// <summary>What it said: warnings and errors only.</summary>
    public ConcurrentQueue<string> Lines { get; } = [];

    /// <summary>Whether its host has been started; asked to stop before, it would call that a failure.</summary>
    public bool HasStarted { get; private set; }

    public int ProcessId => process.Id;

    public bool HasEnded => process.HasExited;

    public bool WasKilled => process.HasExited && process.ExitCode == Killed;

    /// <summary>Whether it ended in another way than it was meant to.</summary>
    public bool HasFailed => process.HasExited && process.ExitCode is not (0 or Killed);

    public int ExitCode => process.ExitCode;

    public async Task<int> EndsAsync()
    {
        using var limit = new CancellationTokenSource(Crossing.Limit);
        await process.WaitForExitAsync(limit.Token);
        return process.ExitCode;
    }

    public async Task KillAsync()
    {
        process.Kill();
        await EndsAsync();
    }

    /// <summary>Keeps it from doing anything, as a machine that is too busy would; and lets it go on.</summary>
    public void Freeze(bool isFrozen = true)
    {
        if (!process.HasExited) _ = Signal(process.Id, isFrozen ? 19 : 18);
    }

    /// <summary>Asks it to stop, as a deployment does, and waits until it has.</summary>
    public async Task<int> StopAsync()
    {
        if (!process.HasExited) _ = Signal(process.Id, 15);
        return await EndsAsync();
    }

    /// <summary>Whether it runs, and what it said.</summary>
    public override string ToString() => string.Join(
        '\n', Lines.Prepend($"{role}: {(HasEnded ? $"ended with {ExitCode}" : HasStarted ? "started" : "runs")}"));

    public void Dispose()
    {
        if (!process.HasExited) process.Kill();
        process.Dispose();
    }

    private static string FindOtherTime()
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "eng", "othertime.sh"))) root = Path.GetDirectoryName(root)!;
        using var finding = Process.Start(new ProcessStartInfo(Path.Combine(root, "eng", "othertime.sh"))
        {
            UseShellExecute = false,
            RedirectStandardOutput = true,
        })!;
        var library = finding.StandardOutput.ReadToEnd().Trim();
        finding.WaitForExit();
        return finding.ExitCode == 0 && library.Length > 0 ? library
            : throw new FileNotFoundException("eng/othertime.sh finds no library that fakes the time");
    }

    private void Keep(string? line)
    {
        if (line == "started") HasStarted = true;
        else if (!string.IsNullOrEmpty(line)) Lines.Enqueue(line);
    }

    [DllImport("libc", EntryPoint = "kill")]
    [DefaultDllImportSearchPaths(DllImportSearchPath.SafeDirectories)]
    private static extern int Signal(int process, int signal);
}
