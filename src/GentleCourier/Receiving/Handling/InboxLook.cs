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

    /// <summary>What is looked for anew has a bound, however fast they are handled.</summary>
    private const int MostAnew = 200;

    // What was handled here within that time, and a little longer: further copies may be among what was looked for
    // before.
    private readonly Lock gate = new();
    private HashSet<EventKey> handled = [], handledBefore = [];
    private long turned = clock.GetTimestamp();

    /// <summary>Begins to look for deliveries that are going to be handled soon.</summary>
    public void Ahead(IReadOnlyList<TakenDelivery> deliveries)
    {
        var look = new Look(new EventKey?[deliveries.Count]);
        // Reading the events is done here, too, and nobody waits for it.
        look.Latest = new(
            0, deliveries.Count, clock.GetTimestamp(), () => Task.Run(() => ReadAndLookAsync(look, deliveries)));
        _ = look.Latest.Handled;
        for (var i = 0; i < deliveries.Count; i++) deliveries[i].Look = (look, i);
    }

    /// <summary>What is known of each delivery; where it has been handled, a further copy is counted.</summary>
    public async Task<InboxAnswer[]> AbsorbAsync(
        IReadOnlyList<ReadDelivery> deliveries, CancellationToken cancellationToken)
    {
        var absorbed = new InboxAnswer[deliveries.Count];
        List<int>? doubtful = null;
        for (var i = 0; i < absorbed.Length; i++)
            if (!await IsKnownToBeNewAsync(deliveries[i], absorbed.Length - i, cancellationToken).ConfigureAwait(false))
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

    private async Task<bool> IsKnownToBeNewAsync(
        ReadDelivery delivery, int together, CancellationToken cancellationToken)
    {
        if (delivery.Taken.Look is not var (look, place)) return false;
        var asked = clock.GetTimestamp();
        var part = PartOf(look, place, together);
        await ((Task)part.Handled).WaitAsync(cancellationToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        // Where it failed, asking once more will tell why.
        return part.Handled.IsCompletedSuccessfully
            && !(await part.Handled.ConfigureAwait(false))[place - part.From]
            && (part.Began >= asked || clock.GetElapsedTime(part.Began) <= Fresh)
            && !WasHandledHere(delivery.Key);
    }

    /// <summary>
    /// News of one delivery that is fresh. Where it is not any more, it is looked for anew together with as many behind
    /// it as are handled with it, or going to be while that is fresh: asked one by one, all that wait for longer would
    /// pay twice.
    /// </summary>
    private LookPart PartOf(Look look, int place, int together)
    {
        lock (gate)
        {
            var known = look.Latest!;
            if (place >= known.From && place < known.To
                && (known.IsUnderWay || clock.GetElapsedTime(known.Began) <= Fresh)) return known;
            var soon = Math.Min(1 + handled.Count + handledBefore.Count, MostAnew);
            var end = Math.Min(look.Keys.Length, place + Math.Max(together, soon));
            return look.Latest = new(place, end, clock.GetTimestamp(), () => LookAsync(look.Keys[place..end]));
        }
    }

    private bool WasHandledHere(EventKey key)
    {
        lock (gate) return handled.Contains(key) || handledBefore.Contains(key);
    }

    private Task<bool[]> ReadAndLookAsync(Look look, IReadOnlyList<TakenDelivery> deliveries)
    {
        for (var i = 0; i < deliveries.Count; i++) look.Keys[i] = deliveries[i].Key;
        return LookAsync(look.Keys);
    }

    /// <summary>Of what cannot be read nothing has been handled.</summary>
    private async Task<bool[]> LookAsync(EventKey?[] keys)
    {
        var known = keys.OfType<EventKey>().ToList();
        var found = await store.LookIntoInboxAsync(queue, known, willHandle: true).ConfigureAwait(false);
        var next = 0;
        return Array.ConvertAll(keys, key => key is not null && found[next++]);
    }
}

/// <summary>What was looked for together, by the places of the deliveries in their hand-over.</summary>
/// <param name="keys">Known once that has come to an end; null where one cannot be read.</param>
internal sealed class Look(EventKey?[] keys)
{
    public EventKey?[] Keys => keys;

    public LookPart? Latest { get; set; }
}

/// <summary>A look into the inbox for some of them. It begins when its answer is first asked for.</summary>
internal sealed class LookPart(int from, int to, long began, Func<Task<bool[]>> look)
{
    private readonly Lazy<Task<bool[]>> handled = new(look);

    public int From => from;

    public int To => to;

    /// <summary>When it began, as the clock counts it.</summary>
    public long Began => began;

    /// <summary>Which of them have been handled.</summary>
    public Task<bool[]> Handled => handled.Value;

    public bool IsUnderWay => !handled.IsValueCreated || !handled.Value.IsCompleted;
}
