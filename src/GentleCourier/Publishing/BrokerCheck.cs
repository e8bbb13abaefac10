using GentleCourier.Engines;

namespace GentleCourier.Publishing;

/// <summary>How a broker compares to what a store remembers.</summary>
internal enum BrokerState
{
    /// <summary>
    /// It has all that it has confirmed, wherever it is by now; or nobody has confirmed anything yet.
    /// </summary>
    AsItWas,

    /// <summary>One that is not known, at a place where there was none; others have confirmed something.</summary>
    New,

    /// <summary>One that is not known, at the place of one that has confirmed something.</summary>
    Another,

    /// <summary>Something that it has confirmed is missing in it.</summary>
    FallenBehind,
}

/// <summary>
/// Judges a broker by what a store remembers of it. It may be ahead: a relay that is killed between publishing and
/// marking leaves it so. Pure computation.
/// </summary>
internal static class BrokerCheck
{
    public static BrokerState Of(StoreMemory memory, Stamped broker)
    {
        foreach (var known in memory.Confirmed)
        {
            if (known.Generation == broker.Generation)
                return broker.Last < known.Stamp ? BrokerState.FallenBehind : BrokerState.AsItWas;
        }
        var before = memory.Confirmed.Where(known => known.Stamp > default(Stamp)).ToList();
        return before.Exists(known => known.Address == broker.Address) ? BrokerState.Another
            : before.Count == 0 ? BrokerState.AsItWas : BrokerState.New;
    }

    /// <summary>
    /// Whether somebody else has published for the same store, in this term or a later one.
    /// </summary>
    /// <param name="last">The last publish that the broker has.</param>
    /// <param name="term">The term of the relay that asks.</param>
    /// <param name="drawn">The last number that it has drawn in this term.</param>
    public static bool IsAhead(Stamp last, long term, long drawn) => last > new Stamp(term, drawn);
}
