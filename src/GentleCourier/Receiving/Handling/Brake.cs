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

/// <summary>
/// Tells an outage from events that are at fault (the trade's circuit breaker): when so many different events have
/// failed alike, with no success between, it is on. Then one at a time is tried, more and more rarely, and what fails
/// alike is not to blame. The first success takes it off. One event that fails again and again is one event, and one
/// that has failed while others succeeded is at fault itself: it puts no brake on, and keeps none on. Pure computation;
/// one caller at a time; times are any that only grow.
/// </summary>
/// <param name="after">So many events; 0: never.</param>
internal sealed class Brake(int after)
{
    /// <summary>The pause before the first try, and the longest between two.</summary>
    public static readonly TimeSpan FirstPause = TimeSpan.FromSeconds(1), LongestPause = TimeSpan.FromSeconds(30);

    /// <summary>It keeps apart so many kinds of failure.</summary>
    public const int MostKinds = 16;

    /// <summary>It remembers so many events that are at fault themselves; beyond that, it begins anew.</summary>
    public const int MostAtFault = 10_000;

    // Those that have failed since the last success, by kind, and those that others have succeeded after.
    private readonly Dictionary<string, HashSet<EventKey>> failed = new(StringComparer.Ordinal);
    private readonly HashSet<EventKey> atFault = [];

    /// <summary>How the events failed that put it on; null while it is off.</summary>
    public string? Kind { get; private set; }

    public bool IsOn => Kind is not null;

    /// <summary>Whether there is nothing that a success would change.</summary>
    public bool IsClear => failed.Count + atFault.Count == 0 && !IsOn;

    /// <summary>When the next one may be tried.</summary>
    public TimeSpan NextTry { get; private set; }

    /// <summary>Since when it is on, and how many have been tried in vain since.</summary>
    public TimeSpan Since { get; private set; }

    public int Tries { get; private set; }

    /// <summary>Whether one may be tried now.</summary>
    public bool IsDue(TimeSpan now) => !IsOn || now >= NextTry;

    /// <summary>
    /// One is tried now. Should nobody ever hear of it again, the next one is tried after the longest pause.
    /// </summary>
    public void Try(TimeSpan now)
    {
        if (IsOn) NextTry = now + LongestPause;
    }

    /// <summary>An event has failed.</summary>
    /// <param name="event">Which.</param>
    /// <param name="kind">How, so that two that have the same cause are alike.</param>
    /// <param name="isTrial">Whether it was the one that was tried.</param>
    /// <param name="now">The time.</param>
    /// <param name="random">A number from 0 to under 1.</param>
    /// <returns>Whether the failure may be the event's own fault.</returns>
    public bool Failed(EventKey @event, string kind, bool isTrial, TimeSpan now, double random)
    {
        if (after == 0) return true;
        var isAtFault = atFault.Contains(@event);
        if (IsOn)
        {
            // One that fails in another way may be at fault itself: another event is tried soon.
            var counts = isAtFault || kind != Kind;
            if (isTrial) Pause(counts ? 0 : ++Tries, now, random);
            return counts;
        }
        if (isAtFault) return true;
        if (!failed.TryGetValue(kind, out var events))
        {
            if (failed.Count == MostKinds) failed.Clear();
            failed[kind] = events = [];
        }
        events.Add(@event);
        if (events.Count < after) return true;
        (Kind, Since, Tries) = (kind, now, 0);
        failed.Clear();
        Pause(0, now, random);
        return false;
    }

    /// <summary>An event has been handled: it is off.</summary>
    public void Succeeded(EventKey @event)
    {
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
