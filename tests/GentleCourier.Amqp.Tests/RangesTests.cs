using CsCheck;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Transport;

namespace GentleCourier.Amqp.Tests;

/// <summary>Deliveries that are settled in one breath.</summary>
public sealed class RangesTests
{
    private static readonly DeliveryState[] States = [DeliveryState.Accepted, DeliveryState.Released];

    [Fact]
    public void Each_delivery_is_in_one_range_of_its_own_outcome_and_neighbours_share_one() =>
        Gen.Select(Gen.UInt, Gen.Select(Gen.UInt[0, 50], Gen.Int[0, 1]).Array[0, 60]).Sample((origin, picks) =>
        {
            // Numbers go round at the end of 32 bits.
            var verdicts = picks.DistinctBy(p => p.Item1)
                .Select(p => new Verdict(unchecked(origin + p.Item1), States[p.Item2])).ToList();
            var ranges = Ranges.Of(verdicts);
            var told = ranges.SelectMany(Expand).ToList();
            var apart = ranges.Zip(ranges.Skip(1)).All(
                pair => unchecked(pair.First.Last + 1) != pair.Second.First || pair.First.State != pair.Second.State);
            return told.Count == verdicts.Count && told.ToHashSet().SetEquals(verdicts) && apart;
        });

    [Fact]
    public void What_is_settled_twice_at_once_is_told_once()
    {
        DeliveryState accepted = DeliveryState.Accepted;
        Assert.Equal([(uint.MaxValue, 0u, accepted), (7u, 7u, accepted)],
            Ranges.Of([new(7, accepted), new(uint.MaxValue, accepted), new(7, accepted), new(0, accepted)]));
        Assert.Empty(Ranges.Of([]));
    }

    private static IEnumerable<Verdict> Expand((uint First, uint Last, DeliveryState State) range)
    {
        for (var id = range.First; ; id++)
        {
            yield return new(id, range.State);
            if (id == range.Last) yield break;
        }
    }
}
