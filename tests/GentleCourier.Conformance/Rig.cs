using System.Collections.Concurrent;
using System.Diagnostics;
using System.Runtime.InteropServices;

namespace GentleCourier.Conformance;

/// <summary>A publisher, a relay or a receiver in a process of its own, to be killed.</summary>
public sealed class Rig : IDisposable
{
    private readonly Process process;

    /// <param name="crossing">Whose broker and stores it uses.</param>
    /// <param name="role"><c>publish</c>, <c>relay</c> or <c>receive</c>.</param>
    /// <param name="service">Whose store it uses.</param>
    /// <param name="settings">Further settings, <c>name=value</c>.</param>
    public Rig(Crossing crossing, string role, string service, params string[] settings)
    {
        var here = AppContext.BaseDirectory.TrimEnd('/');
        var program = Path.Combine(here, "../../CrashRig", Path.GetFileName(here), "CrashRig");
        string[] all = [$"Courier:Store={crossing.StoreAddress(service)}", $"Courier:Broker={crossing.BrokerAddress}",
            .. settings];
        process = Process.Start(new ProcessStartInfo(program, [role, .. all.Select(s => $"--{s}")])
        {
            UseShellExecute = false,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        })!;
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

    public bool HasEnded => process.HasExited;

    public bool WasKilled => process.HasExited && process.ExitCode == Killed;

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

    /// <summary>Asks it to stop, as a deployment does, and waits until it has.</summary>
    public async Task<int> StopAsync()
    {
        if (!process.HasExited) _ = Signal(process.Id, 15);
        return await EndsAsync();
    }

    public void Dispose()
    {
        if (!process.HasExited) process.Kill();
        process.Dispose();
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
