using GentleCourier.Watching;

namespace GentleCourier.Engines;

/// <summary>
/// How engines on a database count an outbox: row by row up to a limit, so that it costs the same however many there
/// are.
/// </summary>
internal static class OutboxCount
{
    /// <summary>So many fresh events are counted; beyond that, their numbers say how many there are at most.</summary>
    public const int Fresh = 10_000;

    /// <summary>So many held and refused events are counted; there may be more.</summary>
    public const int Kept = 100_000;

    /// <summary>So many events for later are counted, and one more.</summary>
    public static long Later => OutboxFigures.MostLater + 1;

    /// <summary>Of so many brokers, all but one are former ones.</summary>
    public static int Former(long brokers) => (int)Math.Max(0, brokers - 1);

    /// <param name="fresh">Fresh events, counted to one beyond the limit.</param>
    /// <param name="span">How many numbers there are from the first fresh one to the last; null where there is none.
    /// </param>
    /// <param name="kept">Held and refused events, counted to one beyond the limit.</param>
    /// <param name="refused">Of these, the refused ones.</param>
    /// <param name="oldestAge">The age of the oldest that is not refused.</param>
    /// <param name="relay">The relay that leads.</param>
    /// <param name="lastError">Why nothing could be relayed.</param>
    public static OutboxFigures Figures(
        long fresh, long? span, long kept, long refused, TimeSpan? oldestAge, string? relay, string? lastError)
    {
        var held = Math.Min(kept, Kept) - Math.Min(refused, Kept);
        var precision = kept > Kept ? Precision.AtLeast : fresh > Fresh ? Precision.AtMost : Precision.Exact;
        var atMost = precision == Precision.AtMost ? span ?? fresh : Math.Min(fresh, Fresh);
        return new OutboxFigures(atMost + held, held, Math.Min(refused, Kept), oldestAge, relay, lastError)
        {
            Precision = precision,
        };
    }
}
