using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Sqlite;

namespace GentleCourier.Cli.Tests;

/// <summary>The real command, in a process of its own, in a temporary working directory.</summary>
public sealed class Courier : IDisposable
{
    private readonly string program;
    private readonly List<int> started = [];

    public Courier(string? program = null)
    {
        var here = AppContext.BaseDirectory.TrimEnd('/');
        this.program = program ?? Path.Combine(here, "../../GentleCourier.Cli", Path.GetFileName(here), "courier.dll");
    }

    /// <summary>How long a test waits for a program: it only ends what hangs.</summary>
    public static TimeSpan Limit { get; } = TimeSpan.FromMinutes(4);

    public string Folder { get; } = Directory.CreateTempSubdirectory("courier-cli-").FullName;

    public string BrokerFile => Path.Combine(Folder, "broker.db");

    public string StoreFile => Path.Combine(Folder, "harbour.db");

    public string Broker => $"sqlite:{BrokerFile}";

    public string Store => $"sqlite:{StoreFile}";

    public Dictionary<string, string> Environment { get; } = [];

    /// <summary>Makes the broker, with a route to each queue, and has the environment name it.</summary>
    internal async Task<IBroker> MakeBrokerAsync(params string[] queues)
    {
        var broker = new SqliteEngine().CreateBroker(new("sqlite", BrokerFile), TimeProvider.System);
        await broker.PrepareAsync(
            new Topology(queues, [.. queues.Select(q => new Route($"test.{q}", q))]), create: true);
        Environment["COURIER_BROKER"] = Broker;
        return broker;
    }

    public Task<Result> RunAsync(params string[] arguments) => RunAsync("", arguments);

    public async Task<Result> RunAsync(string input, string[] arguments) =>
        program.EndsWith(".dll", StringComparison.Ordinal)
        ? await RunProgramAsync("dotnet", [program, .. arguments], input)
        : await RunProgramAsync(program, arguments, input);

    /// <summary>Starts it, to be killed; what it says is lost.</summary>
    public Process Start(params string[] arguments)
    {
        var process = Open(arguments);
        process.StandardInput.Close();
        process.OutputDataReceived += (_, _) => { };
        process.BeginOutputReadLine();
        process.ErrorDataReceived += (_, _) => { };
        process.BeginErrorReadLine();
        return process;
    }

    /// <summary>Starts it on a terminal of its own; what is written to its input is typed there.</summary>
    public Process StartOnTerminal(int columns, int rows, params string[] arguments)
    {
        var line = string.Join(' ', arguments.Prepend(program).Prepend("dotnet").Select(a => $"'{a}'"));
        Environment["TERM"] = "xterm-256color";
        return StartProgram("script", "-qfec", $"stty cols {columns} rows {rows}; exec {line}", "/dev/null");
    }

    /// <summary>Starts it, and leaves what it says to be read while it runs.</summary>
    /// <remarks>
    /// A shell that runs the tests in the background has them, and what they start, ignore interrupts.
    /// </remarks>
    public Process Open(params string[] arguments) =>
        StartProgram("env", ["--default-signal=INT", "dotnet", program, .. arguments]);

    /// <summary>Another program, in the same folder.</summary>
    public Process StartProgram(string program, params string[] arguments)
    {
        var process = Process.Start(StartOf(program, arguments))!;
        started.Add(process.Id);
        return process;
    }

    private ProcessStartInfo StartOf(string program, string[] arguments)
    {
        var start = new ProcessStartInfo(program, arguments)
        {
            WorkingDirectory = Folder,
            UseShellExecute = false,
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        foreach (var (name, value) in Environment) start.Environment[name] = value;
        return start;
    }

    public async Task<Result> RunProgramAsync(string program, string[] arguments, string input = "")
    {
        using var process = Process.Start(StartOf(program, arguments))!;
        using var limit = new CancellationTokenSource(Limit);
        await process.StandardInput.WriteAsync(input);
        process.StandardInput.Close();
        var output = process.StandardOutput.ReadToEndAsync(limit.Token);
        var errors = process.StandardError.ReadToEndAsync(limit.Token);
        await process.WaitForExitAsync(limit.Token);
        return new Result(process.ExitCode, await output, await errors);
    }

    /// <summary>Whatever a test has left running, since it has failed, ends with it.</summary>
    public void Dispose()
    {
        foreach (var id in started)
        {
            try
            {
                using var process = Process.GetProcessById(id);
                process.Kill(entireProcessTree: true);
            }
            catch (Exception e) when (e is ArgumentException or InvalidOperationException)
            {
                // It has ended by itself.
            }
        }
        Directory.Delete(Folder, recursive: true);
    }

    public sealed record Result(int ExitCode, string Output, string Errors)
    {
        /// <summary>It ended with this code and one line on standard error that says this.</summary>
        public void Fails(int exitCode, string error)
        {
            FailsAfter(exitCode, error);
            Assert.Empty(Output);
        }

        /// <summary>The same, after it had said something else.</summary>
        public void FailsAfter(int exitCode, string error)
        {
            Assert.Equal(exitCode, ExitCode);
            Assert.Contains(error, Errors, StringComparison.Ordinal);
            Assert.DoesNotContain("   at ", Errors, StringComparison.Ordinal);
            Assert.StartsWith("courier: ", Errors, StringComparison.Ordinal);
        }

        /// <summary>It ended well and said this.</summary>
        public void Says(string text)
        {
            Assert.Equal(("", 0), (Errors, ExitCode));
            Assert.Contains(text, Output, StringComparison.Ordinal);
        }
    }
}
