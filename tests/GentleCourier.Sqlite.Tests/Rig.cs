using System.Diagnostics;

namespace GentleCourier.Sqlite.Tests;

/// <summary>A relay or a receiver in a process of its own, to be killed.</summary>
public sealed class Rig : IDisposable
{
    private readonly Process process;

    /// <param name="crossing">Whose broker and stores it uses.</param>
    /// <param name="role"><c>relay</c> or <c>receive</c>.</param>
    /// <param name="service">Whose store it uses.</param>
    /// <param name="faultPoint">Where it dies of SIGKILL; null: nowhere by itself.</param>
    public Rig(Crossing crossing, string role, string service, string? faultPoint = null)
    {
        var here = AppContext.BaseDirectory.TrimEnd('/');
        var program = Path.Combine(here, "../../CrashRig", Path.GetFileName(here), "CrashRig");
        string[] arguments = [role, crossing.StoreFile(service), crossing.BrokerFile];
        process = Process.Start(new ProcessStartInfo(program, faultPoint is null ? arguments : [.. arguments, faultPoint])
        {
            UseShellExecute = false,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        })!;
        process.OutputDataReceived += (_, _) => { };
        process.BeginOutputReadLine();
        process.ErrorDataReceived += (_, _) => { };
        process.BeginErrorReadLine();
    }

    /// <summary>128 + SIGKILL, as a process that was killed reports it.</summary>
    public const int Killed = 137;

    public async Task<int> DiesAsync()
    {
        using var limit = new CancellationTokenSource(Crossing.Limit);
        await process.WaitForExitAsync(limit.Token);
        return process.ExitCode;
    }

    public async Task KillAsync()
    {
        process.Kill();
        await DiesAsync();
    }

    public void Dispose()
    {
        if (!process.HasExited) process.Kill();
        process.Dispose();
    }
}
