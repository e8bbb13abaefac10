using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// How many deliveries a worker may hold, when to fetch more and when to give some back, from what it holds. Pure
/// computation; one caller at a time.
/// </summary>
internal sealed class Credit
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

    private readonly int batch;
    private Prefetch prefetch;
    private int parallel;
    private PrefetchTuner? tuner;
    private int stuck;
    private int helping = FirstHelping;
    private bool oneByOne, isShared;
    private TimeSpan? pausedUntil;
    private TimeSpan lastStart, lastEnd;

    public Credit(Prefetch prefetch, int parallel, int batch)
    {
        this.batch = batch;
        Steer(prefetch, parallel);
    }

    /// <summary>Other limits hold from now on.</summary>
    public void Steer(Prefetch held, int handlers)
    {
        if (held == prefetch && handlers == parallel) return;
        (prefetch, parallel) = (held, handlers);
        tuner = held.IsSelfTuned ? new PrefetchTuner(handlers, batch) : null;
    }

    /// <summary>Whether nothing is to begin until further notice: somebody has said so by hand.</summary>
    public bool IsHeld { get; set; }

    /// <summary>
    /// How many deliveries to fetch along with a settlement: all that fits, once half of what lies ready beyond the
    /// running handlers is used up; before that, the next settlement is soon enough.
    /// </summary>
    public static int ToFetch(int limit, int atOnce, int held, int ready) =>
        ready > Math.Max(0, limit - atOnce) / 2 ? 0 : Math.Max(0, limit - held);

    /// <summary>Whether what is held is to be looked at again after a while, though nothing happens.</summary>
    public bool IsSelfTuned => tuner is not null;

    /// <summary>Whether no handler ends in time.</summary>
    public bool IsStuck => stuck >= parallel;

    /// <summary>
    /// How many deliveries to fetch at once, without waiting for a settlement: none while something lies ready.
    /// </summary>
    public int NeededNow(Holding now, TimeSpan time)
    {
        if (IsFull(now)) return 0;
        var limit = Limit(now, time);
        if (limit == int.MaxValue) return helping;
        return now.Ready > 0 ? 0 : Math.Max(0, limit - now.Held);
    }

    /// <summary>
    /// The same for a link beside the first. While something lies ready it is one at a time, whenever there is room,
    /// and one more than the limit where that is more than handlers have in work: so its events are not kept waiting by
    /// those of the first.
    /// </summary>
    public int NeededBeside(Holding now, TimeSpan time)
    {
        isShared = true;
        var limit = Limit(now, time);
        if (now.Ready == 0 && NeededNow(now, time) is > 0 and var needed) return needed;
        // After a pause it is to be a few, of both together.
        if (pausedUntil is not null || IsFull(now)) return 0;
        return limit > now.Held || now.Held - limit < Besides(limit) ? 1 : 0;
    }

    /// <summary>How many of those that lie ready are to be given back: others can begin them sooner.</summary>
    public int Surplus(Holding now, TimeSpan time)
    {
        if (!IsHeld && stuck < parallel && ToTry(now, time) is { } trial) return Math.Max(0, now.Ready - trial);
        var limit = Limit(now, time);
        return limit == int.MaxValue ? 0 : Math.Max(0, Math.Min(now.Ready, now.Held - limit - Besides(limit)));
    }

    /// <summary>How many deliveries to fetch along with the settlement of <paramref name="settling"/> others.</summary>
    public int WorthFetching(Holding now, int settling, TimeSpan time)
    {
        var limit = Limit(now, time);
        return IsFull(now) ? 0 : limit == int.MaxValue ? helping
            : ToFetch(limit, parallel * batch, now.Held - settling, now.Ready);
    }

    /// <summary>
    /// How many finished deliveries are worth an exchange: half of what may be held, while handlers have work at hand.
    /// One that has run out of it needs what is fetched along with them; where more comes by itself, it needs the
    /// credit.
    /// </summary>
    public int WorthSettling(Holding now, TimeSpan time, bool bringsByItself)
    {
        var limit = Limit(now, time);
        return now.Ready > 0 ? limit - (limit / 2) : bringsByItself ? limit / 8 : 1;
    }

    /// <summary>Whether deliveries are being handled, lie ready for that, or did so within this time.</summary>
    public bool IsAtWork(Holding now, TimeSpan within, TimeSpan time) =>
        now.Running + now.Ready > 0 || time - lastEnd < within;

    /// <summary>For how long nothing is to be fetched; null where that is not so.</summary>
    public TimeSpan? PausedFor(TimeSpan time) => pausedUntil - time is { Ticks: > 0 } left ? left : null;

    /// <summary>So many have come, 1 or more.</summary>
    /// <param name="count">How many.</param>
    /// <param name="alone">Whether no other may be held together with it.</param>
    public void Fetched(int count, bool alone)
    {
        helping = count == helping ? Math.Min(2 * helping, LargestHelping) : FirstHelping;
        oneByOne = alone;
    }

    /// <summary>
    /// Deliveries have come, and go back at once: until nothing else is held, and then one at a time.
    /// </summary>
    public void Refused() => oneByOne = true;

    /// <summary>A handler has taken one up.</summary>
    public void Started(TimeSpan time) => lastStart = time;

    /// <summary>A handler has been busy for so long with so many.</summary>
    public void Handled(TimeSpan took, int count, TimeSpan time)
    {
        lastEnd = time;
        tuner?.Handled(took, count);
    }

    /// <summary>From asking for more until it was there it took this long.</summary>
    public void Exchanged(TimeSpan took) => tuner?.Exchanged(took);

    /// <summary>
    /// Nothing is to be fetched until this time, and what lies ready is to go; after it, a few, of which one is tried.
    /// Null: as usual.
    /// </summary>
    public void Pause(TimeSpan? until) => pausedUntil = until;

    /// <summary>
    /// One more handler does not end in time (or, with -1, one has ended after all); when all do not, nothing is held.
    /// </summary>
    public void Stuck(int change) => stuck += change;

    /// <summary>In a pause nothing, and after it a few, whatever others still do; null where there is none.</summary>
    private int? ToTry(Holding now, TimeSpan time) => pausedUntil is not { } until ? null
        : until > time ? 0 : Math.Min(HelpingToTry, LimitWithoutPause(now, time));

    private int Limit(Holding now, TimeSpan time) => IsHeld || IsStuck ? 0
        : ToTry(now, time) is { } trial ? now.Running + trial : LimitWithoutPause(now, time);

    private int LimitWithoutPause(Holding now, TimeSpan time) => oneByOne ? 1
        : prefetch.IsUnlimited ? int.MaxValue
        : tuner is null ? prefetch.Count
        : tuner.Limit(now.Running == 0 ? TimeSpan.Zero : time - lastStart);

    /// <summary>Nobody has said a number that these would be too many of; but memory has an end.</summary>
    private bool IsFull(Holding now) => (prefetch.IsUnlimited || IsSelfTuned) && now.Bytes >= Budget.HeldBytes;

    private int Besides(int limit) => isShared && limit > parallel * batch ? 1 : 0;
}
