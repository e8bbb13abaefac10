namespace GentleCourier.Receiving;

/// <summary>
/// Counts the deliveries that a worker holds, so that they never exceed its prefetch, and says when to fetch more. One loop
/// fetches and settles; handlers, on other threads, start.
/// </summary>
internal sealed class Credit(int prefetch, int parallel)
{
    private readonly Lock gate = new();
    private TaskCompletionSource? waiting;
    private int unsettled;
    private int unstarted;

    /// <summary>
    /// How many deliveries to fetch along with a settlement: all that fits, once half of what lies ready beyond the running
    /// handlers is used up; before that, the next settlement is soon enough. Pure computation.
    /// </summary>
    public static int ToFetch(int prefetch, int parallel, int unsettled, int unstarted) =>
        unstarted > (prefetch - parallel) / 2 ? 0 : prefetch - unsettled;

    /// <summary>How many deliveries to fetch along with the settlement of <paramref name="settling"/> others.</summary>
    public int WorthFetching(int settling)
    {
        lock (gate) return ToFetch(prefetch, parallel, unsettled - settling, unstarted);
    }

    /// <summary>How many deliveries to fetch at once, without waiting for a settlement: none while something lies ready.</summary>
    public int NeededNow
    {
        get
        {
            lock (gate) return unstarted > 0 ? 0 : prefetch - unsettled;
        }
    }

    /// <summary>Whether no delivery lies ready: the next handler to finish has nothing to do.</summary>
    public bool NothingReady
    {
        get
        {
            lock (gate) return unstarted == 0;
        }
    }

    /// <summary>Ends when nothing lies ready any more, and there is room for something.</summary>
    public Task UsedUp
    {
        get
        {
            lock (gate)
            {
                if (unstarted == 0 && unsettled < prefetch) return Task.CompletedTask;
                waiting ??= new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
                return waiting.Task;
            }
        }
    }

    /// <summary>Deliveries have come.</summary>
    public void Fetched(int count)
    {
        lock (gate)
        {
            unsettled += count;
            unstarted += count;
        }
    }

    /// <summary>A handler has taken one up.</summary>
    public void Started()
    {
        lock (gate)
        {
            unstarted--;
            if (waiting is null || unstarted > 0 || unsettled == prefetch) return;
            waiting.TrySetResult();
            waiting = null;
        }
    }

    /// <summary>Deliveries have been settled, or are no longer this worker's.</summary>
    public void Settled(int count)
    {
        lock (gate) unsettled -= count;
    }
}
