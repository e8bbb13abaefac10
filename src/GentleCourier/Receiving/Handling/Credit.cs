namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Counts the deliveries that a worker holds, so that they never exceed its prefetch, and says when to fetch more and
/// when to give some back. One loop fetches and settles; handlers, on other threads, start and end.
/// </summary>
internal sealed class Credit(Prefetch prefetch, int parallel, int batch, TimeProvider clock)
{
    /// <summary>
    /// Without a limit, events are still taken in helpings, so that other workers get theirs in turn: small at first,
    /// and twice as large, up to <see cref="LargestHelping"/>, after each that came full.
    /// </summary>
    public const int FirstHelping = 16;

    public const int LargestHelping = 1024;

    /// <summary>
    /// After a pause so many are fetched, as far as the prefetch allows: one to try, the others to pass by.
    /// </summary>
    public const int HelpingToTry = 20;

    private readonly PrefetchTuner? tuner = prefetch.IsSelfTuned ? new PrefetchTuner(parallel, batch) : null;
    private readonly Lock gate = new();
    private TaskCompletionSource? waiting, waitingToGiveBack;
    private int unsettled;
    private int unstarted;
    private int running;
    private int stuck;
    private int helping = FirstHelping;
    private int changes;
    private bool oneByOne, isShared;
    private (long Since, TimeSpan For)? paused;
    private long now, lastStart, lastEnd = clock.GetTimestamp();

    /// <summary>
    /// How many deliveries to fetch along with a settlement: all that fits, once half of what lies ready beyond the
    /// running handlers is used up; before that, the next settlement is soon enough. Pure computation.
    /// </summary>
    public static int ToFetch(int limit, int atOnce, int unsettled, int unstarted) =>
        unstarted > Math.Max(0, limit - atOnce) / 2 ? 0 : Math.Max(0, limit - unsettled);

    /// <summary>Whether what is held is to be looked at again after a while, though nothing happens.</summary>
    public bool IsSelfTuned => tuner is not null;

    /// <summary>How many deliveries may be held at this moment.</summary>
    public int Limit
    {
        get
        {
            using (Enter()) return LimitNow;
        }
    }

    /// <summary>
    /// How many deliveries to fetch at once, without waiting for a settlement: none while something lies ready.
    /// </summary>
    public int NeededNow
    {
        get
        {
            using (Enter()) return Needed;
        }
    }

    /// <summary>
    /// The same for a link beside the first. While something lies ready it is one at a time, whenever there is room,
    /// and one more than the limit where that is more than handlers have in work: so its events are not kept waiting by
    /// those of the first.
    /// </summary>
    public int NeededBeside
    {
        get
        {
            using (Enter())
            {
                isShared = true;
                var limit = LimitNow;
                if (unstarted == 0 && Needed is > 0 and var needed) return needed;
                // After a pause it is to be a few, of both together.
                if (paused is not null) return 0;
                return limit > unsettled || unsettled - limit < Besides(limit) ? 1 : 0;
            }
        }
    }

    /// <summary>How many of those that lie ready are to be given back: others can begin them sooner.</summary>
    public int Surplus
    {
        get
        {
            using (Enter()) return SurplusNow;
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

    /// <summary>Counts what may have made something to fetch, or to give back.</summary>
    public int Changes
    {
        get
        {
            lock (gate) return changes;
        }
    }

    /// <summary>Ends when there is something to fetch, or to give back.</summary>
    /// <param name="lookedAt">
    /// <see cref="Changes"/> when the link found nothing of its own in what is too much: it is another's, or is just
    /// being taken up. Until more has changed, that does not count.
    /// </param>
    public Task Attention(int? lookedAt)
    {
        var time = clock.GetTimestamp();
        lock (gate)
        {
            now = time;
            return Needed > 0 || IsTooMuch(lookedAt) ? Task.CompletedTask : Wait(ref waiting);
        }
    }

    /// <summary>Ends when there is something to give back, for a link that waits for events already.</summary>
    /// <param name="lookedAt">As above.</param>
    public Task TooMuch(int? lookedAt)
    {
        var time = clock.GetTimestamp();
        lock (gate)
        {
            now = time;
            return IsTooMuch(lookedAt) ? Task.CompletedTask : Wait(ref waitingToGiveBack);
        }
    }

    /// <summary>Whether deliveries are being handled, lie ready for that, or did so within this time.</summary>
    public bool IsAtWork(TimeSpan within)
    {
        using (Enter()) return running + unstarted > 0 || clock.GetElapsedTime(lastEnd, now) < within;
    }

    /// <summary>How many deliveries are held, and how many of them are being handled.</summary>
    public (int InHand, int Running) Now
    {
        get
        {
            lock (gate) return (unsettled, running);
        }
    }

    /// <summary>For how long nothing is to be fetched; null where that is not so.</summary>
    public TimeSpan? PausedFor
    {
        get
        {
            using (Enter()) return PauseLeft is { } left && left > TimeSpan.Zero ? left : null;
        }
    }

    private TimeSpan? PauseLeft => paused is { } pause ? pause.For - clock.GetElapsedTime(pause.Since, now) : null;

    /// <summary>In a pause nothing, and after it a few, whatever others still do; null where there is none.</summary>
    private int? ToTry => PauseLeft is not { } left ? null
        : left > TimeSpan.Zero ? 0 : Math.Min(HelpingToTry, LimitWithoutPause);

    private int LimitNow => stuck == parallel ? 0
        : ToTry is { } trial ? running + trial
        : LimitWithoutPause;

    private int LimitWithoutPause => oneByOne ? 1
        : prefetch.IsUnlimited ? int.MaxValue
        : tuner is null ? prefetch.Count
        : tuner.Limit(running == 0 ? TimeSpan.Zero : clock.GetElapsedTime(lastStart, now));

    private int Needed
    {
        get
        {
            var limit = LimitNow;
            if (limit == int.MaxValue) return helping;
            return unstarted > 0 ? 0 : Math.Max(0, limit - unsettled);
        }
    }

    private int SurplusNow => stuck < parallel && ToTry is { } trial ? Math.Max(0, unstarted - trial)
        : LimitNow is var limit && limit == int.MaxValue ? 0
        : Math.Max(0, Math.Min(unstarted, unsettled - limit - Besides(limit)));

    private int Besides(int limit) => isShared && limit > parallel * batch ? 1 : 0;

    /// <summary>How many deliveries to fetch along with the settlement of <paramref name="settling"/> others.</summary>
    public int WorthFetching(int settling)
    {
        using (Enter())
        {
            var limit = LimitNow;
            return limit == int.MaxValue ? helping : ToFetch(limit, parallel * batch, unsettled - settling, unstarted);
        }
    }

    /// <summary>
    /// How many finished deliveries are worth an exchange: half of what may be held, while handlers have work at hand.
    /// One that has run out of it needs what is fetched along with them; where more comes by itself, it needs the
    /// credit.
    /// </summary>
    public int WorthSettling(bool bringsByItself)
    {
        lock (gate)
        {
            var limit = LimitNow;
            return unstarted > 0 ? limit - (limit / 2) : bringsByItself ? limit / 8 : 1;
        }
    }

    /// <summary>Deliveries have come, and lie ready.</summary>
    /// <param name="count">How many, 1 or more.</param>
    /// <param name="alone">Whether no other may be held together with it.</param>
    public void Fetched(int count, bool alone = false)
    {
        using (Enter())
        {
            helping = count == helping ? Math.Min(2 * helping, LargestHelping) : FirstHelping;
            oneByOne = alone;
            unsettled += count;
            unstarted += count;
            Call();
        }
    }

    /// <summary>
    /// Deliveries have come, and go back at once: until nothing else is held, and then one at a time.
    /// </summary>
    public void Refused(int count)
    {
        using (Enter())
        {
            unsettled += count;
            oneByOne = true;
        }
    }

    /// <summary>One will not be begun from where it lies: it goes back, or waits.</summary>
    public void TakenBack()
    {
        lock (gate) unstarted--;
    }

    /// <summary>One that was waiting elsewhere lies ready.</summary>
    public void Returned()
    {
        using (Enter())
        {
            unsettled++;
            unstarted++;
            Call();
        }
    }

    /// <summary>A handler has taken one up.</summary>
    public void Started()
    {
        using (Enter())
        {
            unstarted--;
            running++;
            lastStart = now;
            Call();
        }
    }

    /// <summary>
    /// Nothing is to be fetched for this time, and what lies ready is to go; after it, a few, of which one is tried.
    /// Null: as usual.
    /// </summary>
    public void Pause(TimeSpan? time)
    {
        using (Enter())
        {
            paused = time is { } pause ? (now, pause) : null;
            Call();
        }
    }

    /// <summary>One is held until it is clear what becomes of it, and does not count meanwhile.</summary>
    public void Parked() => Settled(1);

    /// <summary>It is about to be settled.</summary>
    public void Unparked()
    {
        lock (gate) unsettled++;
    }

    /// <summary>Deliveries have been settled, or are no longer this worker's.</summary>
    public void Settled(int count)
    {
        using (Enter())
        {
            unsettled -= count;
            Call();
        }
    }

    /// <summary>Whether no handler ends in time.</summary>
    public bool IsStuck
    {
        get
        {
            using (Enter()) return stuck == parallel;
        }
    }

    /// <summary>
    /// One more handler does not end in time (or, with -1, one has ended after all); when all do not, nothing is held.
    /// </summary>
    public void Stuck(int change)
    {
        using (Enter())
        {
            stuck += change;
            Call();
        }
    }

    /// <summary>A handler has been busy for so long with so many.</summary>
    public void Handled(TimeSpan time, int count)
    {
        using (Enter())
        {
            running -= count;
            lastEnd = now;
            tuner?.Handled(time, count);
        }
    }

    /// <summary>From asking for more until it was there it took this long.</summary>
    public void Exchanged(TimeSpan time)
    {
        if (tuner is null) return;
        lock (gate) tuner.Exchanged(time);
    }

    /// <summary>
    /// The lock, and the time, for what needs both. The clock is asked first: one that tests have made may run what
    /// waits for it, which may wait for somebody who waits for this lock.
    /// </summary>
    private Lock.Scope Enter()
    {
        var time = clock.GetTimestamp();
        var scope = gate.EnterScope();
        now = time;
        return scope;
    }

    private bool IsTooMuch(int? lookedAt) => SurplusNow > 0 && lookedAt != changes;

    private static Task Wait(ref TaskCompletionSource? waiting) =>
        (waiting ??= new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously)).Task;

    private void Call()
    {
        changes++;
        if (waiting is null && waitingToGiveBack is null) return;
        var isTooMuch = SurplusNow > 0;
        if (isTooMuch) Call(ref waitingToGiveBack);
        if (isTooMuch || Needed > 0) Call(ref waiting);
    }

    private static void Call(ref TaskCompletionSource? waiting)
    {
        waiting?.TrySetResult();
        waiting = null;
    }
}
