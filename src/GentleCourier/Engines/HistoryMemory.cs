using GentleCourier.Watching;

namespace GentleCourier.Engines;

/// <summary>
/// What has been read of queues' histories: a row never changes, so that who looks often need only ask for those that
/// have come since. Now and then all is read anew, in case the broker is not the one it was. Thread-safe.
/// </summary>
/// <param name="most">Rows of a queue that engines keep.</param>
/// <param name="clock">When all is read anew.</param>
internal sealed class HistoryMemory(int most, TimeProvider clock)
{
    private static readonly TimeSpan ForSoLong = TimeSpan.FromMinutes(1);
    // One that is written later may tell of an earlier moment.
    private static readonly TimeSpan Overlap = TimeSpan.FromSeconds(30);

    private readonly Lock gate = new();
    private Dictionary<long, List<QueueCounts>> known = [];
    private DateTimeOffset newest;
    private long readAllAt;

    /// <summary>Rows after this time have to be read; null: all.</summary>
    public DateTimeOffset? Since
    {
        get
        {
            lock (gate)
                return newest == default || clock.GetElapsedTime(readAllAt) > ForSoLong ? null : newest - Overlap;
        }
    }

    /// <summary>What is read next is all of it.</summary>
    public void Forget()
    {
        lock (gate) newest = default;
    }

    /// <summary>All that is known of each queue, the oldest first.</summary>
    /// <param name="rows">What was read, by time.</param>
    /// <param name="since">Since when it was.</param>
    public IReadOnlyDictionary<long, IReadOnlyList<QueueCounts>> With(
        IEnumerable<(long Queue, QueueCounts Counts)> rows, DateTimeOffset? since)
    {
        lock (gate)
        {
            if (since is null) (known, readAllAt, newest) = ([], clock.GetTimestamp(), default);
            foreach (var (queue, counts) in rows)
            {
                if (!known.TryGetValue(queue, out var history)) known[queue] = history = [];
                if (counts.At > newest) newest = counts.At;
                if (history.Count == 0 || counts.At > history[^1].At) history.Add(counts);
                if (history.Count > most) history.RemoveAt(0);
            }
            return known.ToDictionary(h => h.Key, h => (IReadOnlyList<QueueCounts>)[.. h.Value]);
        }
    }
}
