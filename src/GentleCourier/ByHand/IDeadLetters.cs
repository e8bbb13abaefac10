using System.Runtime.CompilerServices;
using GentleCourier.Events;

namespace GentleCourier.ByHand;

/// <summary>
/// What a broker has set aside, and the way back. All members are thread-safe, and all throw
/// <see cref="CourierException"/> where the broker cannot be reached or used. A letter never changes, and no other ever
/// gets its id.
/// </summary>
public interface IDeadLetters
{
    /// <summary>Dead letters, in the order in which they were set aside, or the newest first.</summary>
    /// <param name="queue">Of this queue only; null for all.</param>
    /// <param name="limit">How many at the most; fewer, where they have more than 16 MiB.</param>
    /// <param name="beyond">Only those that come behind this one, which need not be there any more.</param>
    /// <param name="oldestFirst">In which order.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>None, where there are no more.</returns>
    Task<IReadOnlyList<DeadLetter>> ReadAsync(
        string? queue, int limit, string? beyond = null, bool oldestFirst = false,
        CancellationToken cancellationToken = default);

    /// <summary>One dead letter by its id; null where there is none.</summary>
    Task<DeadLetter?> FindAsync(string id, CancellationToken cancellationToken = default);

    /// <summary>
    /// Sends dead letters back, each to the end of its own queue and to no other: the letter goes and the event comes
    /// in one transaction for all, durably. Its attempts begin anew, what happened before stays readable. Its place in
    /// the order of its partition key is lost.
    /// </summary>
    /// <param name="letters">Letters, each once, of no more than 16 MiB.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>
    /// For each whether it went back, in the order of the list. False: the letter was gone. So it may be repeated after
    /// an error: what went back then is not sent twice.
    /// </returns>
    Task<IReadOnlyList<bool>> SendBackAsync(
        IReadOnlyList<LetterReturn> letters, CancellationToken cancellationToken = default);

    /// <summary>Removes dead letters for good, all in one transaction. May be repeated after an error.</summary>
    /// <param name="ids">Their ids; one that is none is passed by.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>For each whether it was there, in the order of the list.</returns>
    Task<IReadOnlyList<bool>> DiscardAsync(IReadOnlyList<string> ids, CancellationToken cancellationToken = default);
}

/// <summary>Reads all of what may be much.</summary>
public static class DeadLetterReading
{
    private const int Page = 500;

    /// <summary>
    /// All dead letters, the oldest first, read page by page: however many there are, a page of them is in memory. What
    /// is set aside meanwhile may come, too.
    /// </summary>
    /// <param name="letters">Where they are.</param>
    /// <param name="queue">Of this queue only; null for all.</param>
    /// <param name="cancellationToken">Ends the reading.</param>
    public static async IAsyncEnumerable<DeadLetter> ReadAllAsync(
        this IDeadLetters letters, string? queue = null,
        [EnumeratorCancellation] CancellationToken cancellationToken = default)
    {
        ArgumentNullException.ThrowIfNull(letters);
        for (string? beyond = null; ;)
        {
            var page = await letters.ReadAsync(queue, Page, beyond, oldestFirst: true, cancellationToken)
                .ConfigureAwait(false);
            if (page.Count == 0) yield break;
            foreach (var letter in page) yield return letter;
            beyond = page[^1].Id;
        }
    }
}

/// <summary>A dead letter that is to be sent back.</summary>
public sealed class LetterReturn(DeadLetter letter, ReadOnlyMemory<byte>? repaired = null)
{
    /// <summary>The letter, as it was read.</summary>
    public DeadLetter Letter { get; } = letter;

    /// <summary>
    /// What goes instead of its event, in CloudEvents' JSON format; null: the event as it was published.
    /// </summary>
    public ReadOnlyMemory<byte>? Repaired { get; } = repaired;

    internal ReadOnlyMemory<byte> Json => Repaired ?? Letter.Json;

    /// <summary>The event's own; what cannot be read has none.</summary>
    internal string? PartitionKey
    {
        get
        {
            try
            {
                return EventJson.Read(Json).PartitionKey;
            }
            catch (UnreadableEventException)
            {
                return null;
            }
        }
    }
}
