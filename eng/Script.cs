using System.Diagnostics;

namespace GentleCourier.Servers;

/// <summary>Scripts of <c>eng/</c>.</summary>
public static class Script
{
    /// <summary>Runs one, and returns what it printed.</summary>
    public static string Run(string script, params string[] arguments)
    {
        // Its output goes to files: a server inherits them, and would keep a pipe open for as long as it lives.
        var output = Path.GetTempFileName();
        try
        {
            using var process = Process.Start(
                "bash", ["-c", $"exec \"$@\" >{output} 2>&1 </dev/null", "-", Find(script), .. arguments]);
            if (!process.WaitForExit(TimeSpan.FromMinutes(5))) process.Kill(entireProcessTree: true);
            var said = File.ReadAllText(output);
            return process.ExitCode == 0 ? said
                : throw new InvalidOperationException($"eng/{script} {arguments[0]} failed: {said}");
        }
        finally
        {
            File.Delete(output);
        }
    }

    /// <summary>Starts one that is talked to.</summary>
    public static Process Open(string script, params string[] arguments) =>
        Process.Start(new ProcessStartInfo(Find(script), arguments)
        {
            RedirectStandardInput = true, RedirectStandardOutput = true, UseShellExecute = false,
        })!;

    /// <summary>Where a file of <c>eng/</c> is.</summary>
    public static string Find(string file)
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "eng", file)))
            root = Path.GetDirectoryName(root) ?? throw new FileNotFoundException($"eng/{file}");
        return Path.Combine(root, "eng", file);
    }
}
