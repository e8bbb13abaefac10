using GentleCourier.Watching;

namespace GentleCourier.Receiving.Handling;

/// <summary>How long the handlers of a queue take, and how long events had waited for them. Thread-safe.</summary>
internal sealed class HandlerTimes(int parallel, TimeProvider clock)
{
    private const long Idle = long.MaxValue;

    // When each handler began with what it has.
    private readonly long[] begunAt = [.. Enumerable.Repeat(Idle, parallel)];
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
            for (var i = 0; i < begunAt.Length; i++) first = Math.Min(first, Volatile.Read(ref begunAt[i]));
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
            for (var i = 0; i < begunAt.Length; i++)
                if (Volatile.Read(ref begunAt[i]) is var at && at < now) sum += clock.GetElapsedTime(at, now);
            return sum;
        }
    }

    /// <summary>A handler begins.</summary>
    public void Begin(int handler, IReadOnlyList<TakenDelivery> deliveries)
    {
        var now = clock.GetTimestamp();
        foreach (var delivery in deliveries)
        {
            if (delivery.HandOver is { TriedFor: null, Waited: { } waited })
                waiting.Add(waited + clock.GetElapsedTime(delivery.Attempts.FirstTried, now), 1, now);
        }
        Volatile.Write(ref begunAt[handler], now);
    }

    /// <summary>A handler has ended; how long it took.</summary>
    public TimeSpan End(int handler, int count)
    {
        var now = clock.GetTimestamp();
        var took = clock.GetElapsedTime(begunAt[handler], now);
        Volatile.Write(ref begunAt[handler], Idle);
        Interlocked.Add(ref busy, took.Ticks);
        handling.Add(count == 1 ? took : took / count, count, now);
        return took;
    }
}
