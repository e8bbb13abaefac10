using System.Diagnostics;
using System.Text.Json;

namespace GentleCourier.Bench.Budgets;

/// <summary>A process of this or of another build of the benchmarks that is told what to do line by line.</summary>
internal sealed class Child : IAsyncDisposable
{
    // It only ends what hangs: what a child does for long, it does for as long as it was told.
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(30);

    private readonly Process process;

    /// <param name="folder">Where the build is; null: this one.</param>
    /// <param name="arguments">What it is to be.</param>
    public Child(string? folder, params string[] arguments)
    {
        var program = Path.Combine(folder ?? AppContext.BaseDirectory, "GentleCourier.Bench");
        process = Process.Start(new ProcessStartInfo(program, arguments)
        {
            RedirectStandardInput = true, RedirectStandardOutput = true, UseShellExecute = false,
        })!;
    }

    /// <summary>The next line that it says.</summary>
    public async Task<string> HearAsync() => await process.StandardOutput.ReadLineAsync().WaitAsync(Limit)
        ?? throw new InvalidOperationException("a part of the benchmark has ended before its time; see above");

    public async Task<string> TellAsync(string line)
    {
        await process.StandardInput.WriteLineAsync(line);
        await process.StandardInput.FlushAsync();
        return await HearAsync();
    }

    public async Task<Dictionary<string, double>> EndAsync() =>
        JsonSerializer.Deserialize<Dictionary<string, double>>(await TellAsync("end"))!;

    public async ValueTask DisposeAsync()
    {
        process.StandardInput.Close();
        using var patience = new CancellationTokenSource(TimeSpan.FromSeconds(10));
        try
        {
            await process.WaitForExitAsync(patience.Token);
        }
        catch (OperationCanceledException)
        {
            process.Kill(entireProcessTree: true);
        }
        process.Dispose();
    }
}
