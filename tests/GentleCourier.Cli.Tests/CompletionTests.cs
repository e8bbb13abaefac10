using GentleCourier.Engines;
using GentleCourier.Sqlite;

namespace GentleCourier.Cli.Tests;

/// <summary>What a shell offers while a line is typed.</summary>
public sealed class CompletionTests : IDisposable
{
    private readonly Courier courier = new();

    public void Dispose() => courier.Dispose();

    /// <summary>In a real shell, which has read what the command has installed.</summary>
    private async Task<string[]> OfferedAsync(string line)
    {
        var program = Path.Combine(Path.GetDirectoryName(typeof(CompletionTests).Assembly.Location)!,
            "../../GentleCourier.Cli", Path.GetFileName(AppContext.BaseDirectory.TrimEnd('/')), "courier.dll");
        var words = line.Split(' ');
        var result = await courier.RunProgramAsync("bash", ["-c", $"""
            courier() {"{"} dotnet '{program}' "$@"; {"}"}
            source data/bash-completion/completions/courier
            COMP_LINE='{line}' COMP_POINT={line.Length} COMP_CWORD={words.Length - 1}
            COMP_WORDS=({string.Join(' ', words.Select(w => $"'{w}'"))})
            _courier
            printf '%s\n' "${"{"}COMPREPLY[@]{"}"}"
            """]);
        Assert.Equal("", result.Errors);
        return result.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);
    }

    [Fact]
    public async Task Commands_options_and_the_names_of_queues_and_stores_are_completed()
    {
        await using var broker = new SqliteEngine().CreateBroker(
            new("sqlite", courier.BrokerFile), TimeProvider.System);
        await broker.PrepareAsync(new Topology(["fares", "notices"], []), create: true);
        await File.WriteAllTextAsync(
            Path.Combine(courier.Folder, "courier.json"),
            """{ "broker": "sqlite:broker.db", "stores": { "harbour": "sqlite:harbour.db" } }""");
        courier.Environment["XDG_DATA_HOME"] = Path.Combine(courier.Folder, "data");
        (await courier.RunAsync("completion", "bash", "--install")).Says("a new bash completes courier's lines");

        Assert.Equal(["look"], await OfferedAsync("courier lo"));
        Assert.Equal(["--outbox"], await OfferedAsync("courier look --out"));
        Assert.Equal(["fares"], await OfferedAsync("courier look f"));
        Assert.Equal(["notices"], await OfferedAsync("courier dead-letters --queue n"));
        Assert.Equal(["harbour"], await OfferedAsync("courier later --store h"));
        // Where nothing can be asked, nothing is offered.
        File.Delete(courier.BrokerFile);
        Assert.Empty(await OfferedAsync("courier dead-letters --queue n"));
    }

    [Fact]
    public async Task Each_shell_has_its_script_and_no_other_is_known()
    {
        (await courier.RunAsync("completion", "zsh")).Says("#compdef courier");
        (await courier.RunAsync("completion", "fish")).Says("complete -c courier");
        courier.Environment["XDG_CONFIG_HOME"] = courier.Folder;
        (await courier.RunAsync("completion", "fish", "--install")).Says("fish/completions/courier.fish");
        Assert.True(File.Exists(Path.Combine(courier.Folder, "fish/completions/courier.fish")));
        (await courier.RunAsync("completion", "tcsh")).FailsAfter(2, "'tcsh'");
    }
}
