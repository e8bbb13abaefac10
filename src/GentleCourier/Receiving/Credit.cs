namespace GentleCourier.Receiving;

/// <summary>
/// Counts the deliveries that a worker holds, so that they never exceed its prefetch, and says when to fetch more.
/// Thread-safe.
/// </summary>
internal sealed class Credit(int prefetch, int parallel)
{
    private readonly Lock gate = new();
    private TaskCompletionSource? waiting;
    private int unsettled;
    private int unstarted;

    /// <summary>
    /// How many deliveries to ask for: all that fits, but not before half of what lies ready beyond the running handlers
    /// is used up; a fetch for every single settlement would cost a transaction each. Pure computation.
    /// </summary>
    public static int ToFetch(int prefetch, int parallel, int unsettled, int unstarted) =>
        unstarted > (prefetch - parallel) / 2 ? 0 : prefetch - unsettled;

    /// <summary>Waits until more should be fetched, and says how many. One caller at a time.</summary>
    public async Task<int> WaitAsync(CancellationToken cancellationToken)
    {
        while (true)
        {
            Task changed;
            lock (gate)
            {
                var free = ToFetch(prefetch, parallel, unsettled, unstarted);
                if (free > 0) return free;
                waiting = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
                changed = waiting.Task;
            }
            await changed.WaitAsync(cancellationToken).ConfigureAwait(false);
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
            WakeIfDue();
        }
    }

    /// <summary>Deliveries have been settled, or are no longer this worker's.</summary>
    public void Settled(int count)
    {
        lock (gate)
        {
            unsettled -= count;
            WakeIfDue();
        }
    }

    private void WakeIfDue()
    {
        if (waiting is null || ToFetch(prefetch, parallel, unsettled, unstarted) == 0) return;
        waiting.TrySetResult();
        waiting = null;
    }
}
