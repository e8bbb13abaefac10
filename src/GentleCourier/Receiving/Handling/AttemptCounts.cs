using System.Collections.Concurrent;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// What a worker knows of the attempts before: of events of a broker that does not count them, or not those that do not
/// count, those that this process has seen fail, and since when. Thread-safe.
/// </summary>
internal sealed class AttemptCounts(TimeProvider clock)
{
    /// <summary>It remembers so many events; beyond that, some get more attempts than they should.</summary>
    public const int Most = 100_000;

    private readonly ConcurrentDictionary<EventKey, (int Failed, int Uncounted, long FirstTried)> known = new();
    // Nearly always nothing has failed, and every event asks.
    private volatile bool isKnown;

    /// <summary>
    /// Which attempt it is, at least, when the first was, and since when there has been such an event: since the first,
    /// as far as nobody knows.
    /// </summary>
    public Attempts Next(HandOver delivery)
    {
        var now = clock.GetTimestamp();
        var (failed, uncounted, first) = (0, 0, now);
        if (isKnown && !IsCounted(delivery) && KeyOf(delivery) is { } key)
            (failed, uncounted, first) = known.GetValueOrDefault(key, (0, 0, now));
        failed = Math.Max(failed, delivery.FailedBefore);
        if (delivery.Attempt is { } attempt)
            (failed, first) = (attempt - 1, delivery.TriedFor is { } time ? now - Ticks(time) : now);
        return new(failed + 1, delivery.Uncounted ?? uncounted, first,
            delivery.Age is { } age ? Math.Min(first, now - Ticks(age)) : first);
    }

    /// <summary>What has become of it.</summary>
    public void Note(TakenDelivery delivery, Outcome outcome)
    {
        if (IsCounted(delivery.HandOver) || !(isKnown || outcome is Outcome.Modified)) return;
        if (delivery.Key is not { } key) return;
        if (outcome is Outcome.Modified again && (known.Count < Most || known.ContainsKey(key)))
        {
            var (attempts, counts) = (delivery.Attempts, again.Counts);
            known[key] = (
                attempts.Attempt - (counts ? 0 : 1), attempts.Uncounted + again.Uncounted, attempts.FirstTried);
            isKnown = true;
        }
        else if (outcome is Outcome.AcceptedOutcome or Outcome.Rejected) known.TryRemove(key, out _);
    }

    private static bool IsCounted(HandOver delivery) => delivery is { Attempt: not null, Uncounted: not null };

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

/// <summary>What is known of the attempts at a delivery.</summary>
/// <param name="Attempt">Which it is, as far as anybody knows.</param>
/// <param name="Uncounted">How many before it failed and did not count, as far as anybody knows.</param>
/// <param name="FirstTried">When it was handed over for the first time, as far as anybody knows; a timestamp.</param>
/// <param name="Began">Since when there has been such an event, as far as anybody knows; a timestamp.</param>
internal readonly record struct Attempts(int Attempt, int Uncounted, long FirstTried, long Began)
{
    /// <summary>Those of the next one, after this one has ended so.</summary>
    public Attempts After(Outcome.Modified outcome) => this with
    {
        Attempt = Attempt + (outcome.Counts ? 1 : 0), Uncounted = Uncounted + outcome.Uncounted,
    };
}
