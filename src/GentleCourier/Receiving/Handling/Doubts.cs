using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Events that fail for reasons around them, again and again, while others succeed between: in the end it is the event.
/// Pure computation; one caller at a time.
/// </summary>
internal sealed class Doubts
{
    /// <summary>So often it is not the event.</summary>
    public const int Most = 3;

    /// <summary>It keeps account of so many events; of further ones it believes the best.</summary>
    public const int MostEvents = 10_000;

    private readonly Dictionary<EventKey, (int Times, long Successes)> events = [];
    private long successes;

    public bool IsEmpty => events.Count == 0;

    /// <summary>Another event has been handled.</summary>
    public void Succeeded(EventKey @event)
    {
        successes++;
        events.Remove(@event);
    }

    /// <summary>It has failed for a reason around it.</summary>
    /// <returns>Whether that counts.</returns>
    public bool Failed(EventKey @event)
    {
        if (!events.TryGetValue(@event, out var before))
        {
            if (events.Count < MostEvents) events[@event] = (1, successes);
            return false;
        }
        // While nothing succeeds, nothing is known.
        if (before.Successes == successes) return false;
        events[@event] = (before.Times + 1, successes);
        return before.Times >= Most;
    }

    /// <summary>It is gone from here for good.</summary>
    public void Forget(EventKey @event) => events.Remove(@event);
}
