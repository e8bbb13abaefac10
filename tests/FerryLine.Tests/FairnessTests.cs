using System.Diagnostics;
using System.Globalization;
using System.Text.RegularExpressions;

namespace FerryLine.Tests;

/// <summary>The other example, as a user runs it.</summary>
public sealed partial class FairnessTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("fairness-test-").FullName;

    [Fact]
    public async Task Every_limit_is_played_with_all_the_work_and_drawn()
    {
        var picture = Path.Combine(folder, "fairness.png");
        var (code, output, _) = await RunAsync("--notices", "24", "--workers", "3", "--plot", picture);
        Assert.Equal(0, code);
        var rows = Rows().Matches(output);
        Assert.Equal(["1", "8", "unlimited", "self-tuned"], rows.Select(r => r.Groups["prefetch"].Value));
        Assert.All(rows, row =>
        {
            Assert.Equal(24, row.Groups["handled"].Value.Split(' ', StringSplitOptions.RemoveEmptyEntries).Sum(
                n => int.Parse(n, CultureInfo.InvariantCulture)));
            Assert.True(Seconds(row, "total") >= Seconds(row, "best"), row.Value);
        });
        Assert.Equal("\u0089PNG", string.Concat(File.ReadAllBytes(picture).Take(4).Select(b => (char)b)));

        static double Seconds(Match row, string name) =>
            double.Parse(row.Groups[name].Value, CultureInfo.InvariantCulture);
    }

    [Fact]
    public async Task A_number_out_of_range_is_refused()
    {
        var (code, _, error) = await RunAsync("--workers", "1");
        Assert.NotEqual(0, code);
        Assert.Contains("--workers must be 2 to 16.", error, StringComparison.Ordinal);
    }

    public void Dispose() => Directory.Delete(folder, recursive: true);

    [GeneratedRegex(@"^ *(?<prefetch>\S+) +(?<total>[\d.]+) s +(?<best>[\d.]+) s +[\d.]+ % +(?<handled>(\d+ +){2}\d+) ",
        RegexOptions.Multiline | RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex Rows();

    private async Task<(int Code, string Output, string Error)> RunAsync(params string[] arguments)
    {
        var here = AppContext.BaseDirectory.TrimEnd('/');
        var program = Path.Combine(here, "../../Fairness", Path.GetFileName(here), "Fairness");
        using var process = Process.Start(new ProcessStartInfo(program, arguments)
        {
            UseShellExecute = false,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            WorkingDirectory = folder,
        })!;
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(4));
        var output = process.StandardOutput.ReadToEndAsync(limit.Token);
        var error = process.StandardError.ReadToEndAsync(limit.Token);
        await process.WaitForExitAsync(limit.Token);
        return (process.ExitCode, await output, await error);
    }
}
