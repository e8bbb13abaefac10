using GentleCourier.Engines;

namespace GentleCourier.Cli;

/// <summary>Which kept events are to come back, found out before anything is done.</summary>
/// <param name="words">How they are called.</param>
/// <param name="hasQueue">Whether a receiver may have handled another copy.</param>
/// <param name="thoughForgotten">Whether also those that could act a second time.</param>
internal sealed class Plan(KeptWords words, bool hasQueue, bool thoughForgotten)
{
    private const int Step = 500;

    private readonly HashSet<string> chosen = new(StringComparer.Ordinal);
    private Memory? memory;

    public CauseList Causes { get; } = new();

    public long Count => Causes.Count;

    /// <summary>How many of them are not what they were.</summary>
    public long Repaired { get; private set; }

    /// <summary>What is to be known before, a line each.</summary>
    public IEnumerable<string> Notes => memory?.Notes() ?? [];

    /// <summary>What stays where it is, and why; null where nothing does.</summary>
    public string? Left => memory is { Forgotten.Count: > 0 and var count } && !thoughForgotten
        ? $"{words.Count(count)} older than what inboxes remember stay where they are, since another copy may have "
            + "acted; to have them back all the same, say --though-forgotten" : null;

    public bool Has(Kept kept) => chosen.Contains(kept.Id);

    public async Task MakeAsync(
        IAsyncEnumerable<KeptReturn> events, IReadOnlyList<Named<IStorePort>> stores, CancellationToken cancel)
    {
        try
        {
            if (hasQueue) memory = new Memory(stores);
            await foreach (var part in events.Chunk(Step).WithCancellation(cancel))
            {
                if (memory is not null) await memory.LookAsync([.. part.Select(p => p.Kept)], cancel);
                foreach (var (kept, repaired) in part) Add(kept, repaired is not null);
            }
        }
        finally
        {
            foreach (var store in stores) await store.DisposeAsync();
        }
    }

    private void Add(Kept kept, bool isRepaired)
    {
        if (!thoughForgotten && memory?.Forgotten.Contains(kept.Id) == true || !chosen.Add(kept.Id)) return;
        Causes.Add(kept);
        if (isRepaired) Repaired++;
    }
}
