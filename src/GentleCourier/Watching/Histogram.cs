using System.Text.Json.Serialization;

namespace GentleCourier.Watching;

/// <summary>
/// How often times of each length were seen, in buckets that grow by the fourth root of 2: any percentile is known to
/// within a tenth. Of several processes they can be merged, at no loss. Immutable. Pure computation.
/// </summary>
/// <remarks>
/// Source of the buckets: exponential histograms of OpenTelemetry's data model, scale 2, of milliseconds.
/// </remarks>
/// <param name="First">The number of the first bucket; number n holds times over <c>2^(n/4)</c> ms, up to
/// <c>2^((n+1)/4)</c> ms.</param>
/// <param name="Counts">How many were seen, from the first bucket on.</param>
public sealed record Histogram(int First, IReadOnlyList<long> Counts)
{
    /// <summary>The least and the greatest bucket: 1 µs and 145 days. What lies beyond is counted in them.</summary>
    internal const int Lowest = -40, Highest = 133;

    /// <summary>Nothing was seen.</summary>
    public static Histogram Empty { get; } = new(0, []);

    /// <summary>How many were seen.</summary>
    [JsonIgnore]
    public long Count => Counts.Sum();

    /// <summary>What this one and another one have seen.</summary>
    public Histogram With(Histogram other)
    {
        ArgumentNullException.ThrowIfNull(other);
        if (Counts.Count == 0) return other;
        if (other.Counts.Count == 0) return this;
        var first = Math.Min(First, other.First);
        var counts = new long[Math.Max(First + Counts.Count, other.First + other.Counts.Count) - first];
        for (var i = 0; i < Counts.Count; i++) counts[First - first + i] += Counts[i];
        for (var i = 0; i < other.Counts.Count; i++) counts[other.First - first + i] += other.Counts[i];
        return new Histogram(first, counts);
    }

    /// <summary>About how long that time is of which so many others are at most as long.</summary>
    /// <param name="share">0 to 1: 0.5 is the median, 0.99 what all but one in a hundred keep to.</param>
    /// <returns>Null where nothing was seen.</returns>
    public TimeSpan? Percentile(double share)
    {
        ArgumentOutOfRangeException.ThrowIfNegative(share);
        ArgumentOutOfRangeException.ThrowIfGreaterThan(share, 1);
        var left = Math.Max(1, (long)Math.Ceiling(Count * share));
        for (var i = 0; i < Counts.Count; i++)
        {
            left -= Counts[i];
            if (left <= 0) return MiddleOf(First + i);
        }
        return null;
    }

    /// <summary>About how long they are on average; null where nothing was seen.</summary>
    [JsonIgnore]
    public TimeSpan? Mean => Count is var count && count > 0
        ? Counts.Select((seen, i) => MiddleOf(First + i) * seen).Aggregate(TimeSpan.Zero, (a, b) => a + b) / count
        : null;

    /// <summary>Whether it is one that this program could have made.</summary>
    internal bool IsSound => Counts is { Count: <= Highest - Lowest + 1 } && First is >= Lowest and <= Highest;

    /// <summary>The bucket of a time.</summary>
    internal static int BucketOf(TimeSpan time) => time <= TimeSpan.Zero ? Lowest
        : Math.Clamp((int)Math.Ceiling(4 * Math.Log2(time.TotalMilliseconds)) - 1, Lowest, Highest);

    // Halfway by ratio: no more than 9 % from either end.
    private static TimeSpan MiddleOf(int bucket) => TimeSpan.FromMilliseconds(Math.Pow(2, (bucket + 0.5) / 4));

    /// <summary>The same without empty buckets at its ends.</summary>
    internal static Histogram Of(ReadOnlySpan<long> counts)
    {
        var (from, to) = (counts.IndexOfAnyExcept(0), counts.LastIndexOfAnyExcept(0));
        return from < 0 ? Empty : new Histogram(Lowest + from, counts[from..(to + 1)].ToArray());
    }

    /// <inheritdoc/>
    public bool Equals(Histogram? other) =>
        other is not null && First == other.First && Counts.SequenceEqual(other.Counts);

    /// <inheritdoc/>
    public override int GetHashCode() => HashCode.Combine(First, Counts.Count, Count);
}

/// <summary>Gathers times of the last five to ten minutes. Thread-safe.</summary>
internal sealed class RecentTimes(TimeProvider clock)
{
    private static readonly TimeSpan Half = TimeSpan.FromMinutes(5);

    private readonly Lock gate = new();
    private readonly long half = (long)(Half.TotalSeconds * clock.TimestampFrequency);
    private long[] now = new long[Histogram.Highest - Histogram.Lowest + 1];
    private long[] before = new long[Histogram.Highest - Histogram.Lowest + 1];
    private long since = clock.GetTimestamp();

    /// <param name="time">What was seen.</param>
    /// <param name="count">How often.</param>
    /// <param name="timestamp">When.</param>
    public void Add(TimeSpan time, int count, long timestamp)
    {
        var bucket = Histogram.BucketOf(time) - Histogram.Lowest;
        lock (gate)
        {
            Turn(timestamp);
            now[bucket] += count;
        }
    }

    public Histogram Now
    {
        get
        {
            var timestamp = clock.GetTimestamp();
            lock (gate)
            {
                Turn(timestamp);
                return Histogram.Of(now).With(Histogram.Of(before));
            }
        }
    }

    private void Turn(long timestamp)
    {
        if (timestamp - since < half) return;
        (now, before) = (before, now);
        Array.Clear(now);
        if (timestamp - since >= 2 * half) Array.Clear(before);
        since = timestamp;
    }
}
