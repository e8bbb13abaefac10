using System.Collections;

namespace GentleCourier.Receiving.Handling;

/// <summary>What is attached to every line that is logged while a receiver is at work, its own included.</summary>
internal sealed class AttemptScope(string queue, Type receiver, IReadOnlyList<ReadDelivery> deliveries)
    : IReadOnlyList<KeyValuePair<string, object?>>
{
    public int Count => 6;

    public KeyValuePair<string, object?> this[int index] => index switch
    {
        0 => new("Queue", queue),
        1 => new("Worker", WorkerName.OfProcess),
        2 => new("Receiver", receiver.Name),
        3 => new("EventType", deliveries[0].Event.Type),
        4 => new("EventId", deliveries.Count == 1 ? deliveries[0].Event.Id
            : string.Join(", ", deliveries.Select(d => d.Event.Id))),
        5 => new("Attempt", deliveries.Count == 1 ? deliveries[0].Attempt : deliveries.Max(d => d.Attempt)),
        _ => throw new ArgumentOutOfRangeException(nameof(index)),
    };

    public IEnumerator<KeyValuePair<string, object?>> GetEnumerator()
    {
        for (var i = 0; i < Count; i++) yield return this[i];
    }

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();

    public override string ToString() => string.Join(", ", this.Select(p => $"{p.Key}: {p.Value}"));
}
