using GentleCourier.ByHand;
using GentleCourier.Engines;

namespace GentleCourier.Cli;

/// <summary>
/// What the stores that are known remember of dead letters that are to be sent back: whether their event was handled
/// through another copy, and whether it can still be known.
/// </summary>
internal sealed class Memory(IReadOnlyList<Named<IStorePort>> stores)
{
    private readonly Dictionary<string, DateTimeOffset?> forgottenBefore = [];
    private readonly HashSet<string> away = [];

    /// <summary>How many had been handled through another copy.</summary>
    public long Handled { get; private set; }

    /// <summary>Letters whose other copy may have acted without anybody knowing it any more.</summary>
    public HashSet<string> Forgotten { get; } = new(StringComparer.Ordinal);

    /// <summary>Looks at letters of which each has an event that can be read.</summary>
    public async Task LookAsync(IReadOnlyList<Kept> letters, CancellationToken cancel)
    {
        foreach (var ofQueue in letters.Where(l => l.Event is not null).GroupBy(l => l.Place))
        {
            var (of, handled) = (ofQueue.ToList(), new HashSet<string>());
            foreach (var store in stores.Where(s => !away.Contains(s.Name)))
                await LookAsync(store, of, handled, cancel);
            Handled += handled.Count;
        }
        var before = stores.Count == away.Count ? DateTimeOffset.UtcNow - new RetentionOptions().Inbox
            : forgottenBefore.Values.Max();
        foreach (var letter in letters)
            if (Arrived(letter) < before) Forgotten.Add(letter.Id);
    }

    /// <summary>What is to be known before they are sent back, a line each.</summary>
    public IEnumerable<string> Notes()
    {
        if (Handled > 0)
            yield return $"{Plain.Number(Handled)} of them were handled already through another copy: receivers with "
                + "an inbox will leave them alone";
        foreach (var name in away)
            yield return $"the store {name} cannot be read, so nobody knows what it has handled already";
        if (stores.Count == 0)
            yield return "no store is named (--store), so nobody knows what was handled already through another copy";
    }

    private async Task LookAsync(
        Named<IStorePort> store, List<Kept> letters, HashSet<string> handled, CancellationToken cancel)
    {
        try
        {
            if (!forgottenBefore.ContainsKey(store.Name))
                forgottenBefore[store.Name] = await store.Port.Inbox.ReadForgottenBeforeAsync(cancel);
            var keys = letters.ConvertAll(l => new EventKey(l.Event!.Source, l.Event.Id));
            var found = await store.Port.LookIntoInboxAsync(letters[0].Place, keys, cancellationToken: cancel);
            for (var i = 0; i < letters.Count; i++)
                if (found[i]) handled.Add(letters[i].Id);
        }
        catch (CourierException)
        {
            away.Add(store.Name);
        }
    }

    private static DateTimeOffset Arrived(Kept letter) => ((DeadLetter)letter.Origin).Arrived ?? letter.Since;
}
