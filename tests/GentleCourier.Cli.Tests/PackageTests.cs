using System.Diagnostics;
using System.IO.Compression;
using System.Text.RegularExpressions;

namespace GentleCourier.Cli.Tests;

/// <summary>The packages, as `eng/pack.sh` makes them of what has been built, in a folder of their own.</summary>
public sealed class Packages : IAsyncLifetime
{
    private readonly Courier shell = new();

    /// <summary>Packages of one version are the same for ever, as far as a machine's cache is concerned.</summary>
    public string Version { get; } = $"0.0.1-test{DateTime.UtcNow:yyyyMMddHHmmss}";

    public string Folder => Path.Combine(shell.Folder, "packages");

    public static string RepositoryRoot()
    {
        var folder = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(folder, "GentleCourier.slnx"))) folder = Path.GetDirectoryName(folder)!;
        return folder;
    }

    public async ValueTask InitializeAsync()
    {
        var packed = await shell.RunProgramAsync(
            Path.Combine(RepositoryRoot(), "eng/pack.sh"), [Folder, "--built", $"PackageVersion={Version}"]);
        Assert.True(packed.ExitCode == 0, packed.Output + packed.Errors);
    }

    public ValueTask DisposeAsync()
    {
        shell.Dispose();
        return ValueTask.CompletedTask;
    }
}

/// <summary>As a user takes them.</summary>
public sealed partial class PackageTests : IClassFixture<Packages>, IDisposable
{
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(2);

    private readonly Courier shell = new();
    private readonly Packages packages;

    public PackageTests(Packages packages)
    {
        this.packages = packages;
        // What is not ours comes from the machine's cache, where it is, or from the usual place.
        var cache = Environment.GetEnvironmentVariable("NUGET_PACKAGES")
            ?? Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".nuget", "packages");
        File.WriteAllText(Path.Combine(shell.Folder, "nuget.config"), $"""
            <configuration>
              <config><add key="globalPackagesFolder" value="cache" /></config>
              <fallbackPackageFolders><add key="machine" value="{cache}" /></fallbackPackageFolders>
              <packageSources><add key="ours" value="{packages.Folder}" /></packageSources>
            </configuration>
            """);
    }

    public void Dispose() => shell.Dispose();

    [GeneratedRegex(@"<!-- file: (?<path>\S+) -->\n```csharp\n(?<text>.*?)```", RegexOptions.Singleline, 1000)]
    private static partial Regex Programs { get; }

    private async Task RunAsync(string program, params string[] arguments)
    {
        var result = await shell.RunProgramAsync(program, arguments);
        Assert.True(result.ExitCode == 0, $"{program} {string.Join(' ', arguments)}\n{result.Output}{result.Errors}");
    }

    [Fact]
    public async Task Each_package_has_what_a_careful_team_looks_for()
    {
        var made = Directory.EnumerateFiles(packages.Folder, "*.nupkg").ToList();
        Assert.Equal(6, made.Count);
        foreach (var file in made)
        {
            await using var package = await ZipFile.OpenReadAsync(file);
            var entries = package.Entries.Select(e => e.FullName).ToList();
            Assert.Superset(new HashSet<string> { "README.md", "LICENSE", "icon.png" }, entries.ToHashSet());
            using var reader = new StreamReader(
                await package.Entries.Single(e => e.Name.EndsWith(".nuspec", StringComparison.Ordinal)).OpenAsync());
            var description = await reader.ReadToEndAsync();
            foreach (var element in new[]
                { "<readme>README.md", "<icon>icon.png", "\"expression\">MIT", "<tags>outbox" })
                Assert.Contains(element, description, StringComparison.Ordinal);
            // The command runs on Linux, and carries nothing for other systems.
            Assert.DoesNotContain(entries, e => e.Contains("runtimes/", StringComparison.Ordinal)
                && !e.Contains("runtimes/linux-", StringComparison.Ordinal));
            if (file.Contains(".Cli.", StringComparison.Ordinal))
                Assert.InRange(new FileInfo(file).Length, 1, 30_000_000);
            else
                Assert.True(File.Exists(Path.ChangeExtension(file, ".snupkg")), $"{file} has no symbols");
        }
    }

    [Fact]
    public async Task The_command_installs_as_a_tool_and_runs()
    {
        var tools = Path.Combine(shell.Folder, "tools");
        await RunAsync(
            "dotnet", "tool", "install", "GentleCourier.Cli", "--version", packages.Version, "--tool-path", tools);

        using var courier = new Courier(Path.Combine(tools, "courier"));
        (await courier.RunAsync("--version")).Says("0.1.0");
        (await courier.RunAsync("schema", "apply", "broker", "--broker", courier.Broker, "--queue", "taps"))
            .Says("1 queues");
        (await courier.RunAsync("status", "--broker", courier.Broker)).Says("taps");
        (await courier.RunAsync("forecast", "--come", "20", "--handle", "8", "--workers", "4", "--outage", "30m",
            "--out", Path.Combine(courier.Folder, "plan.png"))).Says("drawn into");
    }

    /// <summary>The guide's first programs, from their text, in an empty folder, with the packages alone.</summary>
    [Fact]
    public async Task From_the_guide_and_the_packages_alone_a_web_service_and_a_worker_handle_their_first_event()
    {
        var guide = await File.ReadAllTextAsync(Path.Combine(Packages.RepositoryRoot(), "docs/guide.md"));
        var programs = Programs.Matches(guide).ToDictionary(m => m.Groups["path"].Value, m => m.Groups["text"].Value);
        Assert.Equal(["Fares/Program.cs", "Gate/Program.cs", "Night/Program.cs"], programs.Keys.Order());
        Assert.InRange(Lines(programs["Gate/Program.cs"]) + Lines(programs["Fares/Program.cs"]), 1, 40);
        await RunAsync("dotnet", "new", "web", "-n", "Gate");
        await RunAsync("dotnet", "new", "worker", "-n", "Fares");
        await RunAsync("dotnet", "new", "console", "-n", "Night");
        foreach (var (path, text) in programs) await File.WriteAllTextAsync(Path.Combine(shell.Folder, path), text);
        await RunAsync("dotnet", "add", "Gate", "package", "Dapper", "--version", "2.1.66", "--no-restore");
        await RunAsync(
            "dotnet", "add", "Night", "package", "Microsoft.Extensions.Hosting", "--version", "10.0.12",
            "--no-restore");
        foreach (var project in new[] { "Gate", "Fares", "Night" })
        {
            await RunAsync("dotnet", "add", project, "package", "GentleCourier.Sqlite", "--version", packages.Version,
                "--no-restore");
            await RunAsync("dotnet", "build", project, "-c", "Release");
        }

        shell.Environment["Courier__Broker"] = "sqlite:broker.db";
        using var gate = Start("Gate", "--urls", "http://127.0.0.1:0");
        var url = await SaidAsync(gate, "Now listening on: ");
        using var fares = Start("Fares");
        using var http = new HttpClient();
        (await http.PostAsync(new Uri($"{url}/taps/7"), null)).EnsureSuccessStatusCode();
        Assert.Equal("7", await SaidAsync(fares, "charged tap "));
        using var night = Start("Night");
        await SaidAsync(night, "published");
        Assert.Equal("0", await SaidAsync(fares, "charged tap "));
        gate.Kill();
        fares.Kill();
    }

    private static int Lines(string text) => text.Split('\n').Count(line => line.Trim().Length > 0);

    private Process Start(string program, params string[] arguments)
    {
        shell.Environment["Courier__Source"] = $"/pier/{program.ToLowerInvariant()}";
        shell.Environment["Courier__Store"] = $"sqlite:{program.ToLowerInvariant()}.db";
        return shell.StartProgram(
            "dotnet", [Path.Combine(program, "bin/Release/net10.0", $"{program}.dll"), .. arguments]);
    }

    /// <summary>What it says after some words.</summary>
    private static async Task<string> SaidAsync(Process process, string words)
    {
        using var limit = new CancellationTokenSource(Limit);
        while (await process.StandardOutput.ReadLineAsync(limit.Token) is { } line)
        {
            var at = line.IndexOf(words, StringComparison.Ordinal);
            if (at >= 0) return line[(at + words.Length)..].Trim();
        }
        throw new InvalidOperationException(
            $"it ended without '{words}': {await process.StandardError.ReadToEndAsync(limit.Token)}");
    }
}
