using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text;

namespace GentleCourier.Cli.Tests.Reading;

/// <summary>
/// Does what a document says, word for word: types its commands into terminals, all in one folder, writes its files,
/// and waits until what it promises is to be seen. What runs on has a terminal of its own.
/// </summary>
internal sealed class Reader(string folder, IReadOnlyDictionary<string, string> environment) : IDisposable
{
    /// <summary>Only ends what hangs.</summary>
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(5);

    private readonly List<Terminal> terminals = [];

    public async Task FollowAsync(IEnumerable<Step> steps)
    {
        foreach (var step in steps)
        {
            switch (step)
            {
                case Step.Write(var file, var text):
                    Directory.CreateDirectory(Path.Combine(folder, Path.GetDirectoryName(file)!));
                    await File.WriteAllTextAsync(Path.Combine(folder, file), text);
                    break;
                case Step.Read(var lines):
                    foreach (var line in lines) await SeeAsync(line);
                    break;
                case Step.Type(var commands):
                    await TypeAsync(commands);
                    break;
            }
        }
    }

    public void Dispose() => terminals.ForEach(t => t.Dispose());

    private async Task TypeAsync(string commands)
    {
        var terminal = new Terminal(folder, environment, commands);
        terminals.Add(terminal);
        if (commands.Contains("dotnet run ", StringComparison.Ordinal)) return;
        using var limit = new CancellationTokenSource(Limit);
        Assert.True(await terminal.EndAsync(limit.Token) == 0, terminal.ToString());
    }

    /// <summary>A line is seen once: what comes later has to be said anew.</summary>
    private async Task SeeAsync(string line)
    {
        var began = Stopwatch.GetTimestamp();
        while (!terminals.Exists(t => t.Takes(line)))
        {
            Assert.True(Stopwatch.GetElapsedTime(began) < Limit,
                $"no terminal shows '{line}':\n{string.Join('\n', terminals)}");
            await Task.Delay(20);
        }
    }

    private sealed class Terminal : IDisposable
    {
        private readonly Process process;
        private readonly string commands;
        private readonly ConcurrentQueue<string> lines = [];
        private readonly List<string> unread = [];

        public Terminal(string folder, IReadOnlyDictionary<string, string> environment, string commands)
        {
            this.commands = commands;
            // Each command of several has to succeed; with its errors among the rest, as on a screen.
            var start = new ProcessStartInfo("bash", ["-c", $"set -e; exec 2>&1\n{commands}"])
            {
                WorkingDirectory = folder,
                UseShellExecute = false,
                RedirectStandardInput = true,
                RedirectStandardOutput = true,
            };
            foreach (var (name, value) in environment) start.Environment[name] = value;
            process = Process.Start(start)!;
            process.StandardInput.Close();
            process.OutputDataReceived += (_, line) =>
            {
                if (line.Data is { } said) lines.Enqueue(said);
            };
            process.BeginOutputReadLine();
        }

        public async Task<int> EndAsync(CancellationToken cancel)
        {
            await process.WaitForExitAsync(cancel);
            return process.ExitCode;
        }

        public bool Takes(string line)
        {
            while (lines.TryDequeue(out var said)) unread.Add(said);
            var at = unread.FindIndex(said => said.Contains(line, StringComparison.Ordinal));
            if (at >= 0) unread.RemoveAt(at);
            return at >= 0;
        }

        public override string ToString() => new StringBuilder($"$ {commands.Trim()}\n")
            .AppendJoin('\n', unread.Concat(lines)).Append(process.HasExited ? $"\n({process.ExitCode})" : "")
            .ToString();

        public void Dispose()
        {
            process.Kill(entireProcessTree: true);
            process.Dispose();
        }
    }
}
