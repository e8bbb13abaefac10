namespace GentleCourier.Postgres;

/// <summary>
/// Up to which row an outbox or a queue is known to be empty, so that reading need not walk what was deleted there: the
/// server keeps it for as long as its longest transaction lasts. Numbers are drawn before transactions commit, in any
/// order; so the place follows only once every transaction has ended that was under way when rows beyond it were read.
/// Pure computation; one caller at a time.
/// </summary>
/// <remarks>
/// A number is drawn a moment before its transaction has one of its own, and a failover may set both back: so all rows
/// have to be looked at now and then, for a small share of the time.
/// </remarks>
internal sealed class Position(long place, TimeProvider clock)
{
    private const int Restraint = 20;
    private static readonly TimeSpan Shortest = TimeSpan.FromSeconds(2);

    private (long Row, long Transaction)? next;
    // A row that was read while another mark was waited for has its turn after it, even when nothing is read any more.
    private long highest = place;
    // The last leader has looked at all of it a moment ago.
    private long lookedAt = clock.GetTimestamp();
    private TimeSpan rest = Shortest;

    /// <summary>Nothing is left up to this row.</summary>
    public long Place { get; private set; } = place;

    /// <summary>Whether it is time to look at all rows.</summary>
    public bool IsTimeForAll => Place > 0 && clock.GetElapsedTime(lookedAt) >= rest;

    /// <summary>All of it has been looked at.</summary>
    /// <param name="took">For how long.</param>
    public void LookedAtAll(TimeSpan took)
    {
        lookedAt = clock.GetTimestamp();
        rest = took * Restraint > Shortest ? took * Restraint : Shortest;
    }

    /// <summary>Rows from the place on have been read.</summary>
    /// <param name="ended">All transactions before this one had ended before the reading.</param>
    /// <param name="first">
    /// The first row beyond the place that was left after the reading; null where there was none.
    /// </param>
    /// <param name="last">The last row that was read; null where there was none.</param>
    /// <param name="upcoming">The number of the next transaction, after the reading.</param>
    public void Read(long ended, long? first, long? last, long upcoming)
    {
        if (next is { } mark && ended >= mark.Transaction)
        {
            // Whoever had drawn a number up to that row has committed it, and it was there to be read, or never will.
            if (first is null || first > mark.Row) (Place, next) = (mark.Row, null);
        }
        if (last > highest) highest = last.Value;
        if (next is null && highest > Place) next = (highest, upcoming);
    }
}
