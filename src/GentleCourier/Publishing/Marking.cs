using GentleCourier.Engines;

namespace GentleCourier.Publishing;

/// <summary>What a broker did with an event, or with what goes of it to one address.</summary>
/// <param name="Row">The event.</param>
/// <param name="Address">Which of its addresses; null: all, or the one that the row is for.</param>
/// <param name="Result">What became of it.</param>
internal readonly record struct Answer(OutboxRow Row, string? Address, PublishResult Result)
{
    /// <summary>What it is held by.</summary>
    public string? Key => HeldKeys.Of(Address ?? Row.Event.Address, Row.Event.PartitionKey);
}

/// <summary>
/// Decides what becomes of a batch that the broker has answered: which rows are forgotten, which are held, and until
/// when each partition key is. One decision a key, with the delay of its oldest row; what waits behind that one changes
/// nothing. What no route is there for waits for one of its type, whatever its key: one decision a type. Pure
/// computation.
/// </summary>
internal static class Marking
{
    /// <summary>What is said of an event that waits for its turn.</summary>
    public const string Follows = "waits behind an earlier event with its partition key";

    /// <param name="rows">The batch, in the order in which it was published.</param>
    /// <param name="results">The broker's answers, in the same order.</param>
    /// <param name="delay">How long to wait after so many attempts.</param>
    public static OutboxMarks Of(
        IReadOnlyList<OutboxRow> rows, IReadOnlyList<PublishResult> results, Func<int, TimeSpan> delay) =>
        Of(rows.Select((row, i) => new Answer(row, null, results[i])), new HashSet<string>(), delay);

    /// <param name="answers">The broker's answers, in the order of the batch; those of one row in a row.</param>
    /// <param name="heldBefore">Keys that events were held by before.</param>
    /// <param name="delay">How long to wait after so many attempts.</param>
    /// <param name="typeDelay">How long at the most, until a type without a route is tried again.</param>
    public static OutboxMarks Of(
        IEnumerable<Answer> answers, IReadOnlySet<string> heldBefore, Func<int, TimeSpan> delay,
        TimeSpan? typeDelay = null)
    {
        var types = new Dictionary<string, HeldType>(StringComparer.Ordinal);
        var freedTypes = new HashSet<string>(StringComparer.Ordinal);
        var forgotten = new List<OutboxRow>();
        var held = new List<HeldRow>();
        var parts = new List<HeldPart>();
        var keys = new Dictionary<string, TimeSpan?>(StringComparer.Ordinal);
        var freed = new HashSet<string>(StringComparer.Ordinal);
        foreach (var answer in answers)
        {
            var (row, key, fate) = (answer.Row, answer.Key, answer.Result.Fate);
            // A held event that leaves was the oldest of its key: the next one's turn has come.
            var rowKey = HeldKeys.Of(row.Event.Address, row.Event.PartitionKey);
            if (row.IsHeld && rowKey is not null && (fate != PublishFate.Deferred || answer.Address is not null))
                freed.Add(rowKey);
            if (row.WaitsForRoute && !answer.Result.IsUnrouted) freedTypes.Add(row.Event.Type);
            switch (fate)
            {
                case PublishFate.Taken:
                    if (answer.Address is null || forgotten is not [.., var last] || last.Row != row.Row)
                        forgotten.Add(row);
                    break;
                case PublishFate.Refused:
                    Hold(answer, row.Attempts + 1, null, answer.Result.Reason!);
                    break;
                case PublishFate.Deferred when key is not null && keys.TryGetValue(key, out var after):
                    if (answer.Address is not null || !row.IsHeld) Hold(answer, 0, after ?? TimeSpan.Zero, Follows);
                    break;
                case PublishFate.Deferred
                    when answer.Address is not null && key is not null && heldBefore.Contains(key):
                    Hold(answer, 0, TimeSpan.Zero, Follows);
                    break;
                default:
                    var first = delay(row.Attempts + 1);
                    Hold(answer, row.Attempts + 1, first, answer.Result.Reason!);
                    if (answer.Result.IsUnrouted) HoldType(row, typeDelay < first ? typeDelay.Value : first);
                    if (key is not null) keys.Add(key, answer.Result.IsUnrouted ? null : first);
                    break;
            }
        }
        freed.ExceptWith(keys.Keys);
        freedTypes.ExceptWith(types.Keys);
        // Of what is left of a row its parts tell.
        var inParts = parts.Select(p => p.Row).ToHashSet();
        if (inParts.Count > 0) forgotten.RemoveAll(row => inParts.Contains(row.Row));
        return new OutboxMarks(forgotten, held, [.. keys.Select(k => new HeldKey(k.Key, k.Value))], [.. freed])
        {
            Parts = parts, Types = [.. types.Values], FreedTypes = [.. freedTypes],
        };

        void HoldType(OutboxRow row, TimeSpan after)
        {
            if (!types.TryGetValue(row.Event.Type, out var known) || (row.WaitsForRoute && !known.WasTried))
                types[row.Event.Type] = new HeldType(row.Event.Type, after, row.WaitsForRoute);
        }

        void Hold(Answer answer, int attempts, TimeSpan? after, string reason)
        {
            if (answer.Address is { } address)
                parts.Add(new HeldPart(answer.Row.Row, address, answer.Key, attempts, after, reason));
            else
            {
                held.Add(new HeldRow(answer.Row.Row, attempts, after, reason)
                {
                    WaitsForRoute = answer.Result.IsUnrouted && attempts > 0,
                });
            }
        }
    }
}
