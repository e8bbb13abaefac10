namespace GentleCourier.Engines;

/// <summary>How much of anything is held in memory or sent at once, whatever its number. Pure computation.</summary>
internal static class Budget
{
    /// <summary>
    /// The largest event that anybody takes, in bytes of its JSON: 4 MiB. A database could hold more; a queue of such
    /// events would not be one.
    /// </summary>
    public const int LargestEvent = 4 * 1024 * 1024;

    /// <summary>
    /// The most that is read, published or handed over at once, in bytes: 16 MiB; and one event, at the least.
    /// </summary>
    public const int Bytes = 16 * 1024 * 1024;

    /// <summary>
    /// So much a worker holds of a queue where nobody has said how many deliveries that may be, in bytes: 64 MiB.
    /// </summary>
    public const int HeldBytes = 64 * 1024 * 1024;

    /// <summary>Parts a list so that each part keeps to <see cref="Bytes"/>, or is one event.</summary>
    internal static IEnumerable<IReadOnlyList<EncodedEvent>> Part(IReadOnlyList<EncodedEvent> events) =>
        Part(events, static e => e.Json.Length);

    /// <summary>The same of anything that has a size.</summary>
    internal static IEnumerable<List<T>> Part<T>(IReadOnlyList<T> events, Func<T, int> size)
    {
        var part = new List<T>();
        long bytes = 0;
        foreach (var @event in events)
        {
            if (part.Count > 0 && bytes + size(@event) > Bytes)
            {
                yield return part;
                (part, bytes) = ([], 0);
            }
            part.Add(@event);
            bytes += size(@event);
        }
        if (part.Count > 0) yield return part;
    }
}
