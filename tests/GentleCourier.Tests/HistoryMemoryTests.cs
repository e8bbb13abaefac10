using CsCheck;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Tests;

public sealed class HistoryMemoryTests
{
    private static readonly DateTimeOffset Begin = new(2031, 6, 14, 6, 0, 0, TimeSpan.Zero);

    /// <summary>
    /// A ring of ten, written every ten seconds and read whenever: whoever asks only for what is new knows the same as
    /// one who reads all of it.
    /// </summary>
    [Fact]
    public void Who_reads_what_is_new_knows_the_same_as_who_reads_all() =>
        Gen.Select(Gen.Int[0, 3].Array[1, 60], Gen.Int[0, 200].Array[1, 60]).Sample((writes, rests) =>
        {
            const int places = 10;
            var clock = new FakeTimeProvider(Begin);
            var memory = new HistoryMemory(places, clock);
            var ring = new SortedDictionary<DateTimeOffset, long>();
            foreach (var (write, rest) in writes.Zip(rests))
            {
                for (var i = 0; i < write; i++)
                {
                    clock.Advance(TimeSpan.FromSeconds(10));
                    ring[clock.GetUtcNow()] = ring.Count;
                    if (ring.Count > places) ring.Remove(ring.Keys.First());
                }
                clock.Advance(TimeSpan.FromMilliseconds(rest));
                var since = memory.Since;
                var known = memory.With(
                    ring.Where(r => since is null || r.Key > since)
                        .Select(r => (1L, new QueueCounts(r.Key, r.Value, 0, 0, 0))), since);
                IEnumerable<DateTimeOffset> expected = ring.Keys;
                Assert.Equal(expected, known.GetValueOrDefault(1)?.Select(c => c.At) ?? []);
            }
        });

    [Fact]
    public void Now_and_then_and_when_it_is_told_to_it_asks_for_all()
    {
        var clock = new FakeTimeProvider(Begin);
        var memory = new HistoryMemory(10, clock);
        Assert.Null(memory.Since);
        memory.With([(1, new QueueCounts(Begin, 5, 0, 0, 0))], null);
        Assert.Equal(Begin - TimeSpan.FromSeconds(30), memory.Since);
        clock.Advance(TimeSpan.FromSeconds(61));
        Assert.Null(memory.Since);
        // A restored broker tells of less.
        Assert.Empty(memory.With([], null));
        memory.With([(1, new QueueCounts(Begin, 5, 0, 0, 0))], memory.Since);
        Assert.NotNull(memory.Since);
        memory.Forget();
        Assert.Null(memory.Since);
    }
}
