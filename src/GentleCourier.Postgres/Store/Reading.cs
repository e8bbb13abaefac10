namespace GentleCourier.Postgres;

/// <summary>
/// One reading of the outbox, of which the relay's position learns. What it needs to know is asked in the same round
/// trip, in snapshots before and after the reading itself.
/// </summary>
internal sealed class Reading
{
    private readonly Position position;
    private readonly OutboxStatements sql;
    private readonly TimeProvider clock;
    private readonly bool ofAll;
    private readonly long began;
    private long ended, upcoming;
    private long? first;

    public Reading(Position position, OutboxStatements sql, TimeProvider clock)
    {
        this.position = position;
        this.sql = sql;
        this.clock = clock;
        ofAll = position.IsTimeForAll;
        began = clock.GetTimestamp();
        From = ofAll ? 0 : position.Place;
    }

    /// <summary>Rows after this one are read.</summary>
    public long From { get; }

    /// <summary>When the server was started, known once the first row has come.</summary>
    public long Started { get; private set; }

    /// <summary>Adds the statements that read, and what is asked around them.</summary>
    public RoundTrip Add(RoundTrip trip, Func<RoundTrip, RoundTrip> statements) =>
        statements(trip.Add(sql.Ended, row => (ended, Started) = (row.GetInt64(0), row.GetInt64(1))))
            .Add(sql.Left, row => (first, upcoming) = (row.IsDBNull(0) ? null : row.GetInt64(0), row.GetInt64(1)),
                Parameter.Of(position.Place));

    /// <summary>The round trip has succeeded.</summary>
    /// <param name="last">The last row that was read; null where there was none.</param>
    /// <param name="isFull">Whether a limit ended it, so that it may not have come to the end.</param>
    public void End(long? last, bool isFull)
    {
        // Rows come in the order of their numbers: where a limit ended it beyond the place, all before that was seen.
        if (ofAll && (!isFull || last > position.Place)) position.LookedAtAll(clock.GetElapsedTime(began));
        position.Read(ended, first, last, upcoming);
    }
}
