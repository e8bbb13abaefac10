using GentleCourier.Watching;

namespace GentleCourier.Receiving.Handling;

/// <summary>How long the handlers of a queue take, and how long events had waited for them. Thread-safe.</summary>
internal sealed class HandlerTimes(TimeProvider clock)
{
    private const long Idle = long.MaxValue;

    // When each handler began with what it has. Another list takes the place of this one when there are more of them.
    private volatile Handler[] handlers = [];
    private readonly RecentTimes handling = new(clock), waiting = new(clock);
    private long busy;

    /// <summary>How long handlers took, in the last minutes.</summary>
    public Histogram Handling => handling.Now;

    /// <summary>How long events had waited when they were taken up for the first time, in the last minutes.</summary>
    public Histogram Waiting => waiting.Now;

    /// <summary>For how long that handler has been running that has run longest; null where none runs.</summary>
    public TimeSpan? Longest
    {
        get
        {
            var first = Idle;
            foreach (var handler in handlers) first = Math.Min(first, Volatile.Read(ref handler.BegunAt));
            return first == Idle ? null : clock.GetElapsedTime(first);
        }
    }

    /// <summary>How long all handlers together have been busy since the beginning, with what they have now.</summary>
    public TimeSpan Busy
    {
        get
        {
            var now = clock.GetTimestamp();
            var sum = TimeSpan.FromTicks(Volatile.Read(ref busy));
            foreach (var handler in handlers)
                if (Volatile.Read(ref handler.BegunAt) is var at && at < now) sum += clock.GetElapsedTime(at, now);
            return sum;
        }
    }

    /// <summary>There are so many handlers, or more; called by one at a time.</summary>
    public void Grow(int count) => handlers =
        [.. handlers, .. Enumerable.Range(0, Math.Max(0, count - handlers.Length)).Select(_ => new Handler())];

    /// <summary>A handler begins.</summary>
    public void Begin(int handler, IReadOnlyList<TakenDelivery> deliveries)
    {
        var now = clock.GetTimestamp();
        foreach (var delivery in deliveries)
        {
            if (delivery.HandOver is { TriedFor: null, Waited: { } waited })
                waiting.Add(waited + clock.GetElapsedTime(delivery.Attempts.FirstTried, now), 1, now);
        }
        Volatile.Write(ref handlers[handler].BegunAt, now);
    }

    /// <summary>A handler has ended; how long it took.</summary>
    public TimeSpan End(int handler, int count)
    {
        var now = clock.GetTimestamp();
        var own = handlers[handler];
        var took = clock.GetElapsedTime(own.BegunAt, now);
        Volatile.Write(ref own.BegunAt, Idle);
        Interlocked.Add(ref busy, took.Ticks);
        handling.Add(count == 1 ? took : took / count, count, now);
        return took;
    }

    private sealed class Handler
    {
        public long BegunAt = Idle;
    }
}
