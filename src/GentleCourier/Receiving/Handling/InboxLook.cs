using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Looks before any work is done what has been handled, for all deliveries that came together at once: a round trip for
/// each would be one in four that handling it takes. This spares the work; what decides is the key of the inbox.
/// Thread-safe.
/// </summary>
internal sealed class InboxLook(IInboxPort store, string queue, TimeProvider clock)
{
    /// <summary>For how long the news that an event has not been handled is believed, unless it was here.</summary>
    private static readonly TimeSpan Fresh = TimeSpan.FromMilliseconds(100);

    // What was handled here within that time, and a little longer: further copies may be among what was looked for
    // before.
    private readonly Lock gate = new();
    private HashSet<EventKey> handled = [], handledBefore = [];
    private long turned = clock.GetTimestamp();

    /// <summary>Begins to look for deliveries that are going to be handled soon.</summary>
    public void Ahead(IReadOnlyList<TakenDelivery> deliveries)
    {
        var look = new Look(clock.GetTimestamp(), Task.Run(() => LookAsync(deliveries)));
        foreach (var delivery in deliveries) delivery.Look = look;
    }

    /// <summary>What is known of each delivery; where it has been handled, a further copy is counted.</summary>
    public async Task<InboxAnswer[]> AbsorbAsync(
        IReadOnlyList<ReadDelivery> deliveries, CancellationToken cancellationToken)
    {
        var absorbed = new InboxAnswer[deliveries.Count];
        List<int>? doubtful = null;
        for (var i = 0; i < absorbed.Length; i++)
            if (!await IsKnownToBeNewAsync(deliveries[i], cancellationToken).ConfigureAwait(false))
                (doubtful ??= []).Add(i);
        if (doubtful is null) return absorbed;
        var found = await store.AbsorbHandledAsync(
            queue, doubtful.ConvertAll(i => deliveries[i].ForInbox), cancellationToken).ConfigureAwait(false);
        for (var i = 0; i < found.Count; i++) absorbed[doubtful[i]] = found[i];
        return absorbed;
    }

    /// <summary>It has been handled here, just now.</summary>
    public void Handled(EventKey key)
    {
        lock (gate)
        {
            if (clock.GetElapsedTime(turned) > Fresh)
            {
                (handled, handledBefore) = (handledBefore, handled);
                handled.Clear();
                turned = clock.GetTimestamp();
            }
            handled.Add(key);
        }
    }

    private async Task<bool> IsKnownToBeNewAsync(ReadDelivery delivery, CancellationToken cancellationToken)
    {
        if (delivery.Taken.Look is not { } look) return false;
        await ((Task)look.Handled).WaitAsync(cancellationToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        // Where it failed, asking once more will tell why.
        return look.Handled.IsCompletedSuccessfully
            && !(await look.Handled.ConfigureAwait(false)).Contains(delivery.Taken)
            && clock.GetElapsedTime(look.Began) <= Fresh
            && !WasHandledHere(delivery.Key);
    }

    private bool WasHandledHere(EventKey key)
    {
        lock (gate) return handled.Contains(key) || handledBefore.Contains(key);
    }

    private async Task<HashSet<TakenDelivery>> LookAsync(IReadOnlyList<TakenDelivery> deliveries)
    {
        var read = new List<(TakenDelivery Taken, EventKey Key)>(deliveries.Count);
        foreach (var delivery in deliveries)
            if (delivery.TryRead() is { } known) read.Add((delivery, known.Key));
        var found = await store.LookIntoInboxAsync(queue, read.ConvertAll(r => r.Key)).ConfigureAwait(false);
        return [.. read.Where((_, i) => found[i]).Select(r => r.Taken)];
    }
}

/// <summary>A look into the inbox: when it began, and which deliveries have been handled.</summary>
internal sealed record Look(long Began, Task<HashSet<TakenDelivery>> Handled);
