namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Computes a prefetch from measured times: as many deliveries as are worked through while the next are fetched. Pure
/// computation; the caller measures.
/// </summary>
/// <param name="parallel">How many handlers there are.</param>
/// <param name="batch">How many deliveries each handles at once.</param>
internal sealed class PrefetchTuner(int parallel, int batch)
{
    /// <summary>It never holds more: what a fetch costs is spread thinly enough over so many.</summary>
    public const int Most = 2000;

    // Settling and fetching go in one exchange once half of what lies ready is used up, so what is worked off in the
    // time of two exchanges is the least that never runs dry. Eight times that spreads the cost of an exchange over so
    // many events that a larger prefetch would gain little, and is still worked off within a few hundredths of a
    // second.
    private const double Cover = 16;

    // What is held for short work waits for sixteen exchanges as it is. Only when nothing has been taken up for half of
    // that the work is another than was learned: a single pause must not have all of it given back.
    private const double ShortStall = Cover / 2;

    // Handlers that idle for less than this share, because nothing is held for them, are left to idle: what is held for
    // one handler may wait behind its work while another has nothing to do.
    private const double IdleShare = 0.02;

    // Weight of the latest measurement: after some twenty of them the old ones hardly count.
    private const double Latest = 0.125;

    private readonly int atOnce = parallel * batch;
    private double handling = double.NaN;
    private double exchange = double.NaN;

    /// <summary>
    /// Handlers have taken <paramref name="time"/> for <paramref name="count"/> deliveries, one after another or as a
    /// batch.
    /// </summary>
    public void Handled(TimeSpan time, int count) => Average(ref handling, time.TotalSeconds / count);

    /// <summary>Settling and fetching has taken this long.</summary>
    public void Exchanged(TimeSpan time) => Average(ref exchange, time.TotalSeconds);

    /// <summary>How many deliveries to hold, from what the handlers work on at once to <see cref="Most"/>.</summary>
    /// <param name="stalled">
    /// For how long no handler has taken up anything though something is in hand. All may have met long work at once:
    /// what was learned from short work no longer holds then.
    /// </param>
    public int Limit(TimeSpan stalled)
    {
        if (double.IsNaN(handling) || double.IsNaN(exchange)) return atOnce;
        var interval = handling / parallel;
        if (stalled.TotalSeconds > ShortStall * exchange) interval = Math.Max(interval, stalled.TotalSeconds);
        if (exchange <= IdleShare * interval * atOnce) return atOnce;
        return (int)Math.Clamp(
            atOnce + Math.Ceiling(Cover * exchange / Math.Max(interval, 1e-9)), atOnce, Math.Max(atOnce, Most));
    }

    private static void Average(ref double average, double value) =>
        average = double.IsNaN(average) ? value : average + (Latest * (value - average));
}
