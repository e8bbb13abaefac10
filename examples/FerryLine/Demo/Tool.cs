using System.Diagnostics;
using System.Text;

namespace FerryLine.Demo;

/// <summary>The command `courier`, in the folder in which courier.json says where everything is.</summary>
internal static class Tool
{
    /// <summary>Runs it to its end.</summary>
    /// <exception cref="InvalidOperationException">It has failed; the message is its own.</exception>
    public static async Task RunAsync(string folder, string[] arguments, CancellationToken cancel)
    {
        using var command = Start(folder, arguments);
        await command.WaitForExitAsync(cancel);
        if (command.ExitCode != 0)
            throw new InvalidOperationException($"courier {arguments[0]} ended with exit code {command.ExitCode}: "
                + (await command.StandardError.ReadToEndAsync(cancel)).Trim());
    }

    /// <summary>Runs it to its end; its exit code, and what it has said.</summary>
    public static async Task<(int Code, string Output)> AskAsync(
        string folder, string[] arguments, CancellationToken cancel)
    {
        var output = new StringBuilder();
        using var command = Start(folder, arguments);
        command.OutputDataReceived += (_, line) => output.AppendLine(line.Data);
        await command.WaitForExitAsync(cancel);
        return (command.ExitCode, command.ExitCode == 2
            ? throw new InvalidOperationException(await command.StandardError.ReadToEndAsync(cancel))
            : output.ToString().Trim());
    }

    public static Process Start(string folder, params string[] arguments)
    {
        var here = AppContext.BaseDirectory.TrimEnd(Path.DirectorySeparatorChar);
        var program = Path.GetFullPath(
            Path.Combine(here, "..", "..", "GentleCourier.Cli", Path.GetFileName(here), "courier"));
        var started = Process.Start(new ProcessStartInfo(program, arguments)
        {
            WorkingDirectory = folder, UseShellExecute = false, RedirectStandardError = true,
            RedirectStandardOutput = true,
        })!;
        // What it says may be much, and is read by nobody.
        started.OutputDataReceived += static (_, _) => { };
        started.BeginOutputReadLine();
        return started;
    }
}
