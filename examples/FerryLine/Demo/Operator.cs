using System.Text.Json;

namespace FerryLine.Demo;

/// <summary>
/// Somebody who orders this and that by hand while the day goes on, by the command: pauses, other limits, workers to be
/// drained. What is ordered ends by itself, or is taken back.
/// </summary>
internal sealed class Operator(string folder, int seed)
{
    private static readonly string[] Queues = ["fares", "deck-count", "notices"];
    private static readonly string[] Stores = ["harbour", "fares", "deckcount"];

    private readonly Random random = new(seed);
    private readonly SortedDictionary<string, int> done = new(StringComparer.Ordinal);

    /// <summary>What was ordered and obeyed, and how often.</summary>
    public string Done
    {
        get
        {
            lock (done) return string.Join(", ", done.Select(d => $"{d.Key} {d.Value}"));
        }
    }

    /// <summary>Each kind in turn; of what, and for how long, is chance.</summary>
    public async Task OrderAsync(int number, CancellationToken cancel)
    {
        var queue = Queues[random.Next(Queues.Length)];
        string[] ends = ["--for", $"{random.Next(1, 5)}s"];
        switch (number % 4)
        {
            case 0:
                await TryAsync(["pause", queue, .. ends, "--why", "a storm of orders"], cancel);
                if (random.Next(2) == 0) await TryAsync(["resume", queue], cancel);
                break;
            case 1:
                await TryAsync(
                    ["steer", queue, "--parallel", $"{random.Next(1, 9)}", "--prefetch", $"{random.Next(9, 60)}",
                        .. ends],
                    cancel);
                break;
            case 2:
                await TryAsync(
                    ["pause", "--outbox", "--store", Stores[random.Next(Stores.Length)], .. ends], cancel);
                break;
            default:
                await DrainAsync(cancel);
                break;
        }
    }

    private async Task DrainAsync(CancellationToken cancel)
    {
        var (_, status) = await Tool.AskAsync(folder, ["status", "--json"], cancel);
        if (status.Length == 0) return;
        using var told = JsonDocument.Parse(status);
        // Unknown while the broker is away.
        var known = told.RootElement.GetProperty("workers");
        if (known.ValueKind != JsonValueKind.Array || known.GetArrayLength() == 0) return;
        var workers = known.EnumerateArray().Select(w => w.GetProperty("worker").GetString()!).ToList();
        var worker = workers[random.Next(workers.Count)];
        await TryAsync(["drain", worker, "--limit", "3s"], cancel);
        // It may have been killed meanwhile, and then nothing is left of that.
        await TryAsync(["drain", worker, "--end"], cancel);
    }

    /// <summary>In a storm a worker may be gone, or a server away.</summary>
    private async Task TryAsync(string[] arguments, CancellationToken cancel)
    {
        var (code, _) = await Tool.AskAsync(folder, arguments, cancel);
        // 4: one of them has not said so in time, as one that was killed.
        if (code is not (0 or 4)) return;
        var what = arguments[1] == "--outbox" ? "pause of a relay" : arguments[^1] == "--end" ? "end of a drain"
            : arguments[0];
        lock (done) done[what] = done.GetValueOrDefault(what) + 1;
    }
}
