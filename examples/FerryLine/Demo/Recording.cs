using System.Diagnostics;

namespace FerryLine.Demo;

/// <summary>The command `courier`, which records the day while it is played and draws it at the end.</summary>
internal sealed class Recording : IAsyncDisposable
{
    private const int SignalTerminate = 15;
    private static readonly TimeSpan StopLimit = TimeSpan.FromMinutes(1);

    private readonly string folder;
    private readonly string rows;
    private Process? process;

    public Recording(DemoFiles files)
    {
        folder = files.Folder;
        rows = Path.Combine(folder, "recording");
    }

    public void Begin(TimeSpan every) =>
        process = Tool.Start(folder, "record", "--dir", rows, "--every", $"{every.TotalMilliseconds:0}ms");

    public Task NoteAsync(string what, CancellationToken cancel) =>
        Tool.RunAsync(folder, ["record", "note", what, "--dir", rows], cancel);

    /// <summary>Ends it, and draws what it has recorded; says where, or why it could not.</summary>
    public async Task<string> DrawAsync(string picture, CancellationToken cancel)
    {
        await StopAsync(cancel);
        try
        {
            await Tool.RunAsync(folder, ["plot", "--dir", rows, "--out", picture], cancel);
            return $"How its queues filled and drained, by `courier record` and `courier plot`: {picture}";
        }
        catch (InvalidOperationException e)
        {
            // The ledger balances without a picture.
            return $"The day could not be drawn: {e.Message}";
        }
    }

    public async ValueTask DisposeAsync()
    {
        using var limit = new CancellationTokenSource(StopLimit);
        try
        {
            await StopAsync(limit.Token);
        }
        catch (OperationCanceledException)
        {
            process?.Kill();
        }
        process?.Dispose();
    }

    private async Task StopAsync(CancellationToken cancel)
    {
        if (process is null) return;
        if (!process.HasExited) _ = Service.SendSignal(process.Id, SignalTerminate);
        await process.WaitForExitAsync(cancel);
    }
}
