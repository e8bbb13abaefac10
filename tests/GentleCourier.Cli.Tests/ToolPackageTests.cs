namespace GentleCourier.Cli.Tests;

public sealed class ToolPackageTests
{
    [Fact]
    public async Task The_package_installs_as_a_tool_and_runs()
    {
        using var shell = new Courier();
        var project = Path.Combine(RepositoryRoot(), "src/GentleCourier.Cli");
        var packages = Path.Combine(shell.Folder, "packages");
        var tools = Path.Combine(shell.Folder, "tools");
        var configuration = Path.GetFileName(AppContext.BaseDirectory.TrimEnd('/'));

        var packed = await shell.RunProgramAsync("dotnet",
            ["pack", project, "--no-build", "-c", configuration, "-o", packages, "-p:PackageVersion=0.0.1-test"]);
        Assert.True(packed.ExitCode == 0, packed.Output + packed.Errors);
        await File.WriteAllTextAsync(Path.Combine(shell.Folder, "nuget.config"), """
            <configuration><packageSources><clear /><add key="here" value="packages" /></packageSources></configuration>
            """);
        var installed = await shell.RunProgramAsync(
            "dotnet", ["tool", "install", "GentleCourier.Cli", "--version", "0.0.1-test", "--tool-path", tools,
                "--configfile", Path.Combine(shell.Folder, "nuget.config")]);
        Assert.True(installed.ExitCode == 0, installed.Output + installed.Errors);

        using var courier = new Courier(Path.Combine(tools, "courier"));
        (await courier.RunAsync("--version")).Says("0.1.0");
        (await courier.RunAsync("schema", "apply", "broker", "--broker", courier.Broker, "--queue", "taps"))
            .Says("1 queues");
        (await courier.RunAsync("status", "--broker", courier.Broker)).Says("taps");
    }

    private static string RepositoryRoot()
    {
        var folder = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(folder, "GentleCourier.slnx"))) folder = Path.GetDirectoryName(folder)!;
        return folder;
    }
}
