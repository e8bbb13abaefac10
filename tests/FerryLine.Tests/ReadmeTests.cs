using System.Text.RegularExpressions;
using GentleCourier.Cli.Tests.Reading;

namespace FerryLine.Tests;

/// <summary>What the README says, done as a reader does it.</summary>
[Collection(DemoTests.OneAtATime)]
public sealed partial class ReadmeTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("ferryline-reader-").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    /// <summary>
    /// In the root of the repository; what a reader has made there goes into a folder of this test's, and what has been
    /// built is not built once more (`eng/reader.sh` does it all in a fresh clone).
    /// </summary>
    [Fact]
    public async Task Each_block_of_commands_works_from_the_first_to_the_last()
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "GentleCourier.slnx"))) root = Path.GetDirectoryName(root)!;
        var blocks = Step.In(
            await File.ReadAllTextAsync(Path.Combine(root, "README.md")), "# Gentle Courier", null)
            .OfType<Step.Type>().ToList();
        Assert.Equal(2, blocks.Count);
        // The tests are run by whoever runs this one: by the very command.
        Assert.Contains("\neng/test.sh ", blocks[0].Commands, StringComparison.Ordinal);
        Assert.EndsWith("\nexec eng/test.sh\n", await File.ReadAllTextAsync(Path.Combine(root, ".ci/run")),
            StringComparison.Ordinal);

        using var reader = new Reader(root, new Dictionary<string, string>
        {
            // Of the programs beside this one.
            ["Configuration"] = AppContext.BaseDirectory.EndsWith("/release/", StringComparison.Ordinal) ? "Release"
                : "Debug",
            ["NUGET_PACKAGES"] = Path.Combine(folder, "cache"),
            ["NUGET_FALLBACK_PACKAGES"] = Environment.GetEnvironmentVariable("NUGET_PACKAGES") ?? Path.Combine(
                Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".nuget", "packages"),
        });
        await reader.FollowAsync([
            new Step.Type(InFolder(blocks[0].Commands.Replace("\neng/test.sh ", "\n# ", StringComparison.Ordinal)
                .Replace("dotnet run ", "dotnet run --no-build ", StringComparison.Ordinal))),
            new Step.Read(["The ledger balances: "]),
            new Step.Type(InFolder(blocks[1].Commands.Replace(
                "eng/pack.sh ", $"eng/pack.sh --built PackageVersion=0.0.{DateTimeOffset.UtcNow.ToUnixTimeSeconds()} ",
                StringComparison.Ordinal))),
            new Step.Read(["dead letters", "outbox of harbour"]),
        ]);
    }

    private string InFolder(string commands) => Made.Replace(commands, $"{folder}/$0");

    [GeneratedRegex(@"(?<= )(?:day|packages|tools)(?=\s)", RegexOptions.None, 1000)]
    private static partial Regex Made { get; }
}
