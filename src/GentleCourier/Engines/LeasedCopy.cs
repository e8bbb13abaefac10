namespace GentleCourier.Engines;

/// <summary>
/// A delivery of an engine that keeps queues in a database: a copy of the event, leased for a time.
/// </summary>
/// <param name="json">The event, as it was published.</param>
/// <param name="attempt">1 for the first time that it is handed over, and so on.</param>
/// <param name="abandoned">How many of the latest attempts in a row were never settled.</param>
/// <param name="copy">The number of the copy in its queue.</param>
/// <param name="number">Drawn for each hand-over, so that it is never used again for another one of the copy.</param>
/// <param name="triedFor">How long ago it was handed over for the first time; null where this is the first.</param>
internal sealed class LeasedCopy(
    ReadOnlyMemory<byte> json, int attempt, int abandoned, long copy, long number, TimeSpan? triedFor)
    : HandOver(json, attempt, abandoned, triedFor)
{
    public long Copy { get; } = copy;

    public long Number { get; } = number;

    /// <summary>The key that is in hand with it; null where the queue is not in key order.</summary>
    public string? Key { get; init; }

    /// <summary>
    /// A number for a hand-over. Never drawn twice in practice: with a thousand million hand-overs, the odds of one
    /// repeat are under 1 in 18. And a repeat does harm only for the same copy, while somebody still holds it.
    /// </summary>
    public static long DrawNumber() => Random.Shared.NextInt64(1, long.MaxValue);
}
