namespace GentleCourier.Engines;

/// <summary>
/// What a broker of our own makes of a batch of events: which queues get a copy of which, and which events it does not
/// take. Pure computation.
/// </summary>
internal static class Routing
{
    /// <summary>Deals the events out.</summary>
    /// <param name="events">
    /// The batch; events with the same partition key stay in their order, so one that is deferred holds back the later
    /// ones.
    /// </param>
    /// <param name="routes">The queues of each wire type, by the engine's numbers.</param>
    /// <param name="broker">Its name, for reasons.</param>
    public static Plan Deal(
        IReadOnlyList<EncodedEvent> events, IReadOnlyDictionary<string, long[]> routes, string broker)
    {
        var results = new PublishResult[events.Count];
        var copies = new List<Copy>(events.Count);
        HashSet<string>? deferredKeys = null;
        for (var i = 0; i < events.Count; i++)
        {
            var @event = events[i];
            if (TooLarge(@event, broker) is { } reason)
            {
                results[i] = PublishResult.Refused(reason);
            }
            else if (@event.PartitionKey is { } key && deferredKeys?.Contains(key) == true)
            {
                results[i] = PublishResult.Deferred($"waits behind an earlier event with the partition key '{key}'");
            }
            else if (!routes.TryGetValue(@event.Type, out var queues))
            {
                results[i] = PublishResult.Unrouted(
                    $"no queue is routed for type '{@event.Type}' in {broker}; start a receiver of it that has this "
                    + $"broker, or declare it with `courier schema apply broker --route {@event.Type}=QUEUE`");
                if (@event.PartitionKey is { } late) (deferredKeys ??= new(StringComparer.Ordinal)).Add(late);
            }
            else
            {
                foreach (var queue in queues) copies.Add(new Copy(queue, i));
                results[i] = PublishResult.Taken;
            }
        }
        return new Plan(results, copies);
    }

    /// <summary>Why an event is too large for any broker; null: it is not.</summary>
    public static string? TooLarge(in EncodedEvent @event, string broker) =>
        @event.Json.Length <= Budget.LargestEvent ? null
            : $"the event has {@event.Json.Length:N0} bytes, and {broker} takes {Budget.LargestEvent:N0} at the most";

    /// <summary>What becomes of each event, and the copies to be made, in their order.</summary>
    public readonly record struct Plan(PublishResult[] Results, List<Copy> Copies);

    /// <summary>A copy for a queue of the event with this place in the batch.</summary>
    public readonly record struct Copy(long Queue, int Event);
}
