using GentleCourier.Amqp.Performatives;

namespace GentleCourier.Amqp.Transport;

/// <summary>
/// Deliveries of one outcome whose numbers follow each other, told in one breath (section 2.7.6). Numbers go round:
/// RFC 1982, serial number arithmetic. Pure computation.
/// </summary>
internal static class Ranges
{
    public static List<(uint First, uint Last, DeliveryState State)> Of(IEnumerable<Verdict> verdicts)
    {
        var sorted = verdicts.ToList();
        var ranges = new List<(uint First, uint Last, DeliveryState State)>();
        if (sorted.Count == 0) return ranges;
        var origin = sorted[0].Id;
        if (!IsInOrder(sorted, origin)) sorted.Sort((a, b) => From(origin, a.Id).CompareTo(From(origin, b.Id)));
        foreach (var (id, state) in sorted)
        {
            if (ranges.Count > 0 && ranges[^1] is var last && last.Last + 1 == id && ReferenceEquals(last.State, state))
                ranges[^1] = last with { Last = id };
            else if (ranges.Count == 0 || ranges[^1].Last != id)
                ranges.Add((id, id, state));
        }
        return ranges;
    }

    private static bool IsInOrder(List<Verdict> verdicts, uint origin)
    {
        for (var i = 1; i < verdicts.Count; i++)
            if (From(origin, verdicts[i - 1].Id) > From(origin, verdicts[i].Id)) return false;
        return true;
    }

    private static int From(uint origin, uint id) => unchecked((int)(id - origin));
}
