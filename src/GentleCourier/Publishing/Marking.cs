using GentleCourier.Engines;

namespace GentleCourier.Publishing;

/// <summary>
/// Decides what becomes of a batch that the broker has answered: which rows are forgotten, which are held, and until
/// when each partition key is. One decision a key, with the delay of its oldest row; what waits behind that one changes
/// nothing. Pure computation.
/// </summary>
internal static class Marking
{
    /// <summary>What is said of an event that waits for its turn.</summary>
    public const string Follows = "waits behind an earlier event with its partition key";

    /// <param name="rows">The batch, in the order in which it was published.</param>
    /// <param name="results">The broker's answers, in the same order.</param>
    /// <param name="delay">How long to wait after so many attempts.</param>
    public static OutboxMarks Of(
        IReadOnlyList<OutboxRow> rows, IReadOnlyList<PublishResult> results, Func<int, TimeSpan> delay)
    {
        var forgotten = new List<OutboxRow>(rows.Count);
        var held = new List<HeldRow>();
        var keys = new Dictionary<string, TimeSpan>(StringComparer.Ordinal);
        var freed = new HashSet<string>(StringComparer.Ordinal);
        for (var i = 0; i < rows.Count; i++)
        {
            var (row, key, attempts) = (rows[i], rows[i].Event.PartitionKey, rows[i].Attempts + 1);
            // A held event that leaves was the oldest of its key: the next one's turn has come.
            if (results[i].Fate != PublishFate.Deferred && row.IsHeld && key is not null) freed.Add(key);
            switch (results[i].Fate)
            {
                case PublishFate.Taken:
                    forgotten.Add(row);
                    break;
                case PublishFate.Refused:
                    held.Add(new HeldRow(row.Row, attempts, null, results[i].Reason!));
                    break;
                case PublishFate.Deferred when key is not null && keys.ContainsKey(key):
                    if (!row.IsHeld) held.Add(new HeldRow(row.Row, 0, keys[key], Follows));
                    break;
                default:
                    var after = delay(attempts);
                    held.Add(new HeldRow(row.Row, attempts, after, results[i].Reason!));
                    if (key is not null) keys.Add(key, after);
                    break;
            }
        }
        freed.ExceptWith(keys.Keys);
        return new OutboxMarks(forgotten, held, [.. keys.Select(k => new HeldKey(k.Key, k.Value))], [.. freed]);
    }
}
