using System.Collections.Concurrent;
using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Counts attempts at events of a broker that does not: those that this process has seen fail. Thread-safe.
/// </summary>
internal sealed class AttemptCounts
{
    /// <summary>It remembers so many events; beyond that, some get more attempts than they should.</summary>
    public const int Most = 100_000;

    private readonly ConcurrentDictionary<EventKey, int> failed = new();

    /// <summary>Which attempt it is, at least.</summary>
    public int Next(HandOver delivery) =>
        delivery.Attempt ?? 1 + (KeyOf(delivery) is { } key ? failed.GetValueOrDefault(key) : 0);

    /// <summary>What has become of it.</summary>
    public void Note(Held delivery, Outcome outcome)
    {
        if (delivery.HandOver.Attempt is not null || delivery.TryRead() is not { Key: var key }) return;
        if (outcome is Outcome.Modified && (failed.Count < Most || failed.ContainsKey(key)))
            failed[key] = delivery.Attempt;
        else if (outcome is Outcome.AcceptedOutcome or Outcome.Rejected) failed.TryRemove(key, out _);
    }

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
