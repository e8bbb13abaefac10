using System.Collections.Concurrent;
using GentleCourier.Engines;
using GentleCourier.Events;

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

    /// <summary>
    /// Which attempt it is, at least, when the first was, and since when there has been such an event: since the first,
    /// as far as nobody knows.
    /// </summary>
    public (int Attempt, long FirstTried, long Began) Next(HandOver delivery)
    {
        var now = clock.GetTimestamp();
        var (failed, first) = delivery.Attempt is { } attempt
            ? (attempt - 1, delivery.TriedFor is { } time ? now - Ticks(time) : now)
            : KeyOf(delivery) is { } key ? known.GetValueOrDefault(key, (0, now)) : (0, now);
        return (failed + 1, first, delivery.Age is { } age ? Math.Min(first, now - Ticks(age)) : first);
    }

    /// <summary>What has become of it.</summary>
    public void Note(TakenDelivery delivery, Outcome outcome)
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
            var @event = CourierEvent.Read(delivery.Json);
            return new EventKey(@event.Source, @event.Id);
        }
        catch (UnreadableEventException)
        {
            return null;
        }
    }
}
