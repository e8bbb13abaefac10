using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>What may be done with a delivery at this moment.</summary>
internal enum Turn
{
    /// <summary>No brake is on: as usual.</summary>
    Free,

    /// <summary>A brake is on, and this delivery is the one that is tried.</summary>
    Trial,

    /// <summary>A brake is on: it has to wait.</summary>
    Wait,
}

/// <summary>What is known of a failure besides its kind.</summary>
[Flags]
internal enum Nature
{
    Plain = 0,

    /// <summary>The event was the one that was tried in spite of the brake.</summary>
    Trial = 1,

    /// <summary>The receiver has said that the event is at fault.</summary>
    Rejection = 2,

    /// <summary>Patience with the event is at its end: from now on it is at fault whatever others do.</summary>
    TooOld = 4,
}

/// <summary>Whose fault a failure is.</summary>
internal enum Blame
{
    /// <summary>Not the event's: it does not count.</summary>
    Others,

    /// <summary>The event's, as far as anybody can tell by now.</summary>
    Open,

    /// <summary>The event's, whatever becomes of others.</summary>
    Event,
}

/// <summary>
/// Tells an outage from events that are at fault (the trade's circuit breaker): when so many different events have
/// failed alike, with no success between, it is on. Then one at a time is tried, more and more rarely, and what fails
/// alike is not to blame. The first success takes it off. One event that fails again and again is one event, and one
/// that has failed while others succeeded is at fault itself: it puts no brake on, and keeps none on. Pure computation;
/// one caller at a time; times are any that only grow.
/// </summary>
/// <param name="after">So many events; 0: never.</param>
/// <remarks>
/// A receiver that rejects an event says by itself that the event is at fault: that it says so of a few in a row is no
/// sign of an outage. It takes <see cref="MoreRejections"/> times as many. And where it has come on and off again, many
/// events are at fault among good ones: each time it takes twice as many, until all has gone well for a while.
/// </remarks>
internal sealed class Brake(int after)
{
    /// <summary>The pause before the first try, and the longest between two.</summary>
    public static readonly TimeSpan FirstPause = TimeSpan.FromMilliseconds(250),
        LongestPause = TimeSpan.FromSeconds(15);

    /// <summary>So many times more rejections than failures put it on.</summary>
    public const int MoreRejections = 4;

    /// <summary>It takes so many times twice as many at the most; so many successes in a row are a while.</summary>
    public const int MostDoublings = 5, While = 100;

    /// <summary>It keeps apart so many kinds of failure.</summary>
    public const int MostKinds = 16;

    /// <summary>It remembers so many events that are at fault themselves; beyond that, it begins anew.</summary>
    public const int MostAtFault = 10_000;

    // Those that have failed since the last success, by kind, and those that others have succeeded after.
    private readonly Dictionary<string, HashSet<EventKey>> failed = new(StringComparer.Ordinal);
    private readonly HashSet<EventKey> atFault = [];
    private int doublings, successes;
    private int least = after;

    /// <summary>How the events failed that put it on; null while it is off.</summary>
    public string? Kind { get; private set; }

    public bool IsOn => Kind is not null;

    /// <summary>Whether there is nothing that a success would change.</summary>
    public bool IsClear => failed.Count + atFault.Count + doublings == 0 && !IsOn;

    /// <summary>When the next one may be tried.</summary>
    public TimeSpan NextTry { get; private set; }

    /// <summary>Since when it is on, and how many have been tried in vain since.</summary>
    public TimeSpan Since { get; private set; }

    public int Tries { get; private set; }

    /// <summary>So many events put it on from now on; 0: none, and it is off.</summary>
    public void Steer(int events)
    {
        least = events;
        if (events == 0) Kind = null;
    }

    /// <summary>Whether one may be tried now.</summary>
    public bool IsDue(TimeSpan now) => !IsOn || now >= NextTry;

    /// <summary>
    /// One is tried now. Should nobody ever hear of it again, the next one is tried after the longest pause.
    /// </summary>
    public void Try(TimeSpan now)
    {
        if (IsOn) NextTry = now + LongestPause;
    }

    /// <summary>What was tried has told nothing: the next is tried then.</summary>
    public void TryAgain(TimeSpan next)
    {
        if (IsOn) NextTry = next;
    }

    /// <summary>An event has failed.</summary>
    /// <param name="event">Which.</param>
    /// <param name="kind">How, so that two that have the same cause are alike.</param>
    /// <param name="nature">What is known of it besides.</param>
    /// <param name="now">The time.</param>
    /// <param name="random">A number from 0 to under 1.</param>
    public Blame Failed(EventKey @event, string kind, Nature nature, TimeSpan now, double random)
    {
        if (least == 0) return Blame.Event;
        successes = 0;
        var isAtFault = nature.HasFlag(Nature.TooOld) || atFault.Contains(@event);
        var isTrial = nature.HasFlag(Nature.Trial);
        if (IsOn)
        {
            // One that fails in another way may be at fault itself: another event is tried soon.
            var blame = isAtFault ? Blame.Event : kind == Kind ? Blame.Others : Blame.Open;
            if (isTrial) Pause(blame == Blame.Others ? ++Tries : 0, now, random);
            return blame;
        }
        if (isAtFault) return Blame.Event;
        if (!failed.TryGetValue(kind, out var events))
        {
            if (failed.Count == MostKinds) failed.Clear();
            failed[kind] = events = [];
        }
        events.Add(@event);
        if (events.Count < (nature.HasFlag(Nature.Rejection) ? MoreRejections * least : least) << doublings)
            return Blame.Open;
        (Kind, Since, Tries) = (kind, now, 0);
        failed.Clear();
        Pause(0, now, random);
        return Blame.Others;
    }

    /// <summary>An event has been handled: it is off.</summary>
    public void Succeeded(EventKey @event)
    {
        if (IsOn) doublings = Math.Min(doublings + 1, MostDoublings);
        if (++successes >= While) doublings = 0;
        Kind = null;
        foreach (var events in failed.Values) atFault.UnionWith(events);
        failed.Clear();
        if (atFault.Count > MostAtFault) atFault.Clear();
        atFault.Remove(@event);
    }

    /// <summary>It is gone from here for good.</summary>
    public void Forget(EventKey @event) => atFault.Remove(@event);

    private void Pause(int tries, TimeSpan now, double random) =>
        NextTry = now + BackOff.Delay(tries + 1, FirstPause, LongestPause, random);
}
