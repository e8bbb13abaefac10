using System.IO.Compression;
using System.Text.RegularExpressions;
using GentleCourier.Cli.Tests.Reading;

namespace GentleCourier.Cli.Tests;

/// <summary>The packages, as `eng/pack.sh` makes them of what has been built, in a folder of their own.</summary>
public sealed class Packages : IAsyncLifetime
{
    private readonly Courier shell = new();

    /// <summary>Packages of one version are the same for ever, as far as a machine's cache is concerned.</summary>
    public string Version { get; } = NewVersion();

    public string Folder => Path.Combine(shell.Folder, "packages");

    public static string RepositoryRoot()
    {
        var folder = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(folder, "GentleCourier.slnx"))) folder = Path.GetDirectoryName(folder)!;
        return folder;
    }

    /// <summary>The command that makes them of what has been built already.</summary>
    public static string PackInto(string folder, string version) =>
        $"'{RepositoryRoot()}/eng/pack.sh' {folder} --built PackageVersion={version} ";

    public static string NewVersion() => $"0.0.{DateTimeOffset.UtcNow.ToUnixTimeSeconds()}";

    /// <summary>
    /// In which a reader's commands run: what is not ours comes from the machine's cache, where it is, or from the
    /// usual place; ours goes into no cache but the folder's own.
    /// </summary>
    public static Dictionary<string, string> Surroundings(string folder) => new()
    {
        // What the SDK remembers of what it has found in that cache is gone with it.
        ["DOTNET_CLI_HOME"] = HomeIn(folder),
        ["DOTNET_GENERATE_ASPNET_CERTIFICATE"] = "false",
        ["NUGET_PACKAGES"] = Path.Combine(folder, "cache"),
        ["NUGET_FALLBACK_PACKAGES"] = MachinesCache,
        ["MSBUILDDISABLENODEREUSE"] = "1",
        // One compiler for all that they build; whoever runs the tests ends it.
        ["UseSharedCompilation"] = "true",
        ["DOTNET_NOLOGO"] = "1",
        ["DOTNET_CLI_TELEMETRY_OPTOUT"] = "1",
    };

    /// <summary>A home with the settings of whoever runs this.</summary>
    private static string HomeIn(string folder)
    {
        var home = Path.Combine(folder, "home");
        var settings = Path.Combine(".nuget", "NuGet", "NuGet.Config");
        var own = Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), settings);
        Directory.CreateDirectory(Path.Combine(home, ".nuget", "NuGet"));
        if (File.Exists(own)) File.Copy(own, Path.Combine(home, settings), overwrite: true);
        return home;
    }

    public static string MachinesCache => Environment.GetEnvironmentVariable("NUGET_PACKAGES")
        ?? Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".nuget", "packages");

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
public sealed class PackageTests : IClassFixture<Packages>, IDisposable
{
    private readonly Courier shell = new();
    private readonly Packages packages;

    public PackageTests(Packages packages)
    {
        this.packages = packages;
        // What is not ours comes from the machine's cache.
        File.WriteAllText(Path.Combine(shell.Folder, "nuget.config"), $"""
            <configuration>
              <config><add key="globalPackagesFolder" value="cache" /></config>
              <fallbackPackageFolders><add key="machine" value="{Packages.MachinesCache}" /></fallbackPackageFolders>
              <packageSources><add key="ours" value="{packages.Folder}" /></packageSources>
            </configuration>
            """);
    }

    public void Dispose() => shell.Dispose();

    private async Task RunAsync(string program, params string[] arguments)
    {
        var result = await shell.RunProgramAsync(program, arguments);
        Assert.True(result.ExitCode == 0, $"{program} {string.Join(' ', arguments)}\n{result.Output}{result.Errors}");
    }

    [Fact]
    public async Task Each_package_has_what_a_careful_team_looks_for()
    {
        var made = Directory.EnumerateFiles(packages.Folder, "*.nupkg").ToList();
        Assert.Equal(
            Directory.GetDirectories(Path.Combine(Packages.RepositoryRoot(), "src")).Length, made.Count);
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
            // They know each other's insides.
            Assert.All(OursIn(description), version => Assert.Equal($"[{packages.Version}]", version));
            // The command runs on Linux, and carries nothing for other systems.
            Assert.DoesNotContain(entries, e => e.Contains("runtimes/", StringComparison.Ordinal)
                && !e.Contains("runtimes/linux-", StringComparison.Ordinal));
            if (file.Contains(".Cli.", StringComparison.Ordinal))
                Assert.InRange(new FileInfo(file).Length, 1, 30_000_000);
            else
                Assert.True(File.Exists(Path.ChangeExtension(file, ".snupkg")), $"{file} has no symbols");
        }
    }

    private static IEnumerable<string> OursIn(string description) =>
        Regex.Matches(
            description, "dependency id=\"GentleCourier[^\"]*\" version=\"(?<version>[^\"]*)\"",
            RegexOptions.ExplicitCapture, TimeSpan.FromMinutes(1)).Select(match => match.Groups["version"].Value);

    [Fact]
    public async Task The_command_installs_as_a_tool_and_runs()
    {
        var tools = Path.Combine(shell.Folder, "tools");
        await RunAsync(
            "dotnet", "tool", "install", "GentleCourier.Cli", "--version", packages.Version, "--tool-path", tools);

        using var courier = new Courier(Path.Combine(tools, "courier"));
        (await courier.RunAsync("--version")).Says("0.1.0");
        (await courier.RunAsync("schema", "apply", "broker", "--broker", courier.Broker, "--queue", "taps"))
            .Says("1 queue,");
        (await courier.RunAsync("status", "--broker", courier.Broker)).Says("taps");
        (await courier.RunAsync("forecast", "--come", "20", "--handle", "8", "--workers", "4", "--outage", "30m",
            "--out", Path.Combine(courier.Folder, "plan.png"))).Says("drawn into");
    }

    /// <summary>Every other piece of code in the documents, with the packages alone.</summary>
    [Fact]
    public async Task What_the_documents_show_compiles()
    {
        var root = Packages.RepositoryRoot();
        string[] documents =
            ["README.md", "docs/guide.md", .. Directory.GetFiles(Path.Combine(root, "src"), "README.md",
                SearchOption.AllDirectories).Select(f => Path.GetRelativePath(root, f))];
        var snippets = documents.SelectMany(d => Snippet.In(root, d)).Where(s => s.File is null).ToList();
        Assert.InRange(snippets.Count, 15, 100);
        var surroundings = await File.ReadAllTextAsync(
            Path.Combine(root, "tests/GentleCourier.Cli.Tests/Reading/Surroundings.cs"));
        var usings = surroundings[..surroundings.IndexOf("namespace", StringComparison.Ordinal)];
        await MakeAsync(
            "web", "Shown", "Dapper 2.1.66", "Microsoft.EntityFrameworkCore.Sqlite 10.0.15",
            "OpenTelemetry.Extensions.Hosting 1.20.1", "OpenTelemetry.Instrumentation.AspNetCore 1.20.2",
            "OpenTelemetry.Exporter.OpenTelemetryProtocol 1.20.1",
            $"GentleCourier.Sqlite {packages.Version}", $"GentleCourier.Postgres {packages.Version}",
            $"GentleCourier.Amqp {packages.Version}", $"GentleCourier.EntityFrameworkCore {packages.Version}",
            $"GentleCourier.Testing {packages.Version}");
        var folder = Path.Combine(shell.Folder, "Shown");
        await File.WriteAllTextAsync(Path.Combine(folder, "Program.cs"), "return 0;");
        await File.WriteAllTextAsync(Path.Combine(folder, "Surroundings.cs"), surroundings);
        for (var i = 0; i < snippets.Count; i++)
            await File.WriteAllTextAsync(Path.Combine(folder, $"Snippet{i}.cs"), snippets[i].ToClass(usings, i));

        await RunAsync("dotnet", "build", "Shown", "-c", "Release");
    }

    /// <summary>As `dotnet new` makes it, with packages as `dotnet add package` would write them.</summary>
    private async Task MakeAsync(string template, string name, params string[] references)
    {
        await RunAsync("dotnet", "new", template, "-n", name, "--no-restore");
        var file = Path.Combine(shell.Folder, name, $"{name}.csproj");
        var items = references.Select(r => r.Split(' '))
            .Select(r => $"<PackageReference Include=\"{r[0]}\" Version=\"{r[1]}\" />");
        var project = await File.ReadAllTextAsync(file);
        await File.WriteAllTextAsync(file, project.Replace(
            "</Project>", $"<ItemGroup>{string.Concat(items)}</ItemGroup></Project>", StringComparison.Ordinal));
    }
}
