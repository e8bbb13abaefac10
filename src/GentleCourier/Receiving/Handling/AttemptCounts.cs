using System.Collections.Concurrent;
using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// What a worker knows of the attempts before: of events of a broker that does not count them, those that this process
/// has seen fail, and since when. Thread-safe.
/// </summary>
internal sealed class AttemptCounts(TimeProvider clock)
{
    /// <summary>It remembers so many events; beyond that, some get more attempts than they should.</summary>
    public const int Most = 100_000;

    private readonly ConcurrentDictionary<EventKey, (int Failed, long FirstTried)> known = new();

    /// <summary>Which attempt it is, at least, and when the first was.</summary>
    public (int Attempt, long FirstTried) Next(HandOver delivery)
    {
        var now = clock.GetTimestamp();
        if (delivery.Attempt is { } attempt)
            return (attempt, delivery.TriedFor is { } time ? now - Ticks(time) : now);
        var before = KeyOf(delivery) is { } key ? known.GetValueOrDefault(key, (0, now)) : (0, now);
        return (before.Item1 + 1, before.Item2);
    }

    /// <summary>What has become of it.</summary>
    public void Note(Held delivery, Outcome outcome)
    {
        if (delivery.HandOver.Attempt is not null || delivery.TryRead() is not { Key: var key }) return;
        if (outcome is Outcome.Modified { Counts: var counts } && (known.Count < Most || known.ContainsKey(key)))
            known[key] = (delivery.Attempt - (counts ? 0 : 1), delivery.FirstTried);
        else if (outcome is Outcome.AcceptedOutcome or Outcome.Rejected) known.TryRemove(key, out _);
    }

    private long Ticks(TimeSpan time) => (long)(time.TotalSeconds * clock.TimestampFrequency);

    private static EventKey? KeyOf(HandOver delivery)
    {
        try
        {
            var @event = Event.Read(delivery.Json);
            return new EventKey(@event.Source, @event.Id);
        }
        catch (UnreadableEventException)
        {
            return null;
        }
    }
}
