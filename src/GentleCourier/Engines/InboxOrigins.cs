namespace GentleCourier.Engines;

/// <summary>
/// The origins of the events that an inbox meets, each reckoned once, and whether their names are written down: an
/// inbox has those beside its keys, for people. They are written again now and then, so that a store that was restored
/// has them too, and names that nobody uses can be told. Thread-safe.
/// </summary>
internal sealed class InboxOrigins(TimeProvider clock)
{
    /// <summary>A name that is still used is written anew so often.</summary>
    public static readonly TimeSpan Every = TimeSpan.FromHours(1);

    /// <summary>Some megabytes. With more of them in an hour, some are reckoned and named more often.</summary>
    private const int Most = 50_000;

    private readonly Lock gate = new();
    private readonly Dictionary<(string Queue, string Source), Origin> origins = [];

    public InboxKey KeyOf(string queue, string source, string id) => InboxKey.Of(Find(queue, source).Number, id);

    public InboxKey[] KeysOf(string queue, IReadOnlyList<InboxEvent> events)
    {
        var keys = new InboxKey[events.Count];
        for (var i = 0; i < keys.Length; i++) keys[i] = KeyOf(queue, events[i].Source, events[i].Id);
        return keys;
    }

    /// <summary>Which of them have a name that has to be written.</summary>
    public IReadOnlyCollection<Origin> Unnamed<T>(string queue, IReadOnlyList<T> events, Func<T, string> sourceOf)
    {
        HashSet<Origin>? unnamed = null;
        string? before = null;
        for (var i = 0; i < events.Count; i++)
        {
            var source = sourceOf(events[i]);
            if (source == before) continue;
            before = source;
            if (Find(queue, source) is var origin && !origin.IsNamed(clock)) (unnamed ??= []).Add(origin);
        }
        return unnamed is null ? [] : unnamed;
    }

    /// <summary>Their names have been written.</summary>
    public void AreNamed(IEnumerable<Origin> written)
    {
        foreach (var origin in written) origin.Name(clock);
    }

    private Origin Find(string queue, string source)
    {
        lock (gate)
        {
            if (origins.TryGetValue((queue, source), out var known)) return known;
            if (origins.Count >= Most) origins.Clear();
            return origins[(queue, source)] = new(InboxKey.OriginOf(queue, source), source);
        }
    }

    /// <summary>A queue and a source.</summary>
    internal sealed class Origin(long number, string source)
    {
        private long named;

        public long Number => number;

        public string Source => source;

        public bool IsNamed(TimeProvider clock) =>
            Volatile.Read(ref named) is not 0 and var at && clock.GetElapsedTime(at) < Every;

        public void Name(TimeProvider clock) => Volatile.Write(ref named, clock.GetTimestamp());
    }
}
