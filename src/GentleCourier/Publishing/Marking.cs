using GentleCourier.Engines;

namespace GentleCourier.Publishing;

/// <summary>What a broker did with an event, or with what goes of it to one address.</summary>
/// <param name="Row">The event.</param>
/// <param name="Address">Which of its addresses; null: all, or the one that the row is for.</param>
/// <param name="Result">What became of it.</param>
internal readonly record struct Answer(OutboxRow Row, string? Address, PublishResult Result)
{
    /// <summary>Where it goes alone; null: wherever its type does.</summary>
    public string? Place => Address ?? Row.Event.Address;

    /// <summary>What it is held by.</summary>
    public string? Key => HeldKeys.Of(Place, Row.Event.PartitionKey);

    /// <summary>What was in its way; null: nothing, or it was its own fault.</summary>
    public string? Obstacle => Result.IsBlocked ? HeldObstacle.Of(Place, Row.Event.Type) : null;
}

/// <summary>
/// Decides what becomes of a batch that the broker has answered: which rows are forgotten, which are held, and until
/// when each partition key is. One decision a key, with the delay of its oldest row; what waits behind that one changes
/// nothing. What has no route, or whose address takes nothing, waits for one of its type or address, whatever its key:
/// one decision an obstacle. Pure computation.
/// </summary>
internal sealed class Marking
{
    /// <summary>What is said of an event that waits for its turn.</summary>
    public const string Follows = "waits behind an earlier event with its partition key";

    private readonly IReadOnlySet<string> heldBefore;
    private readonly Func<int, TimeSpan> delay;
    private readonly TimeSpan obstacleDelay;
    private readonly List<OutboxRow> forgotten = [];
    private readonly List<HeldRow> held = [];
    private readonly List<HeldPart> parts = [];
    private readonly Dictionary<string, TimeSpan?> keys = new(StringComparer.Ordinal);
    private readonly HashSet<string> freed = new(StringComparer.Ordinal);
    private readonly Dictionary<string, HeldObstacle> obstacles = new(StringComparer.Ordinal);
    private readonly HashSet<string> removed = new(StringComparer.Ordinal);

    private Marking(IReadOnlySet<string> heldBefore, Func<int, TimeSpan> delay, TimeSpan obstacleDelay)
    {
        this.heldBefore = heldBefore;
        this.delay = delay;
        this.obstacleDelay = obstacleDelay;
    }

    /// <param name="rows">The batch, in the order in which it was published.</param>
    /// <param name="results">The broker's answers, in the same order.</param>
    /// <param name="delay">How long to wait after so many attempts.</param>
    public static OutboxMarks Of(
        IReadOnlyList<OutboxRow> rows, IReadOnlyList<PublishResult> results, Func<int, TimeSpan> delay) =>
        Of(rows.Select((row, i) => new Answer(row, null, results[i])), new HashSet<string>(), delay);

    /// <param name="answers">The broker's answers, in the order of the batch; those of one row in a row.</param>
    /// <param name="heldBefore">Keys that events were held by before.</param>
    /// <param name="delay">How long to wait after so many attempts.</param>
    /// <param name="obstacleDelay">How long at the most, until an obstacle is tried again.</param>
    public static OutboxMarks Of(
        IEnumerable<Answer> answers, IReadOnlySet<string> heldBefore, Func<int, TimeSpan> delay,
        TimeSpan? obstacleDelay = null)
    {
        var marking = new Marking(heldBefore, delay, obstacleDelay ?? TimeSpan.MaxValue);
        foreach (var answer in answers)
        {
            marking.Free(answer);
            marking.Take(answer);
        }
        return marking.End();
    }

    /// <summary>A held event that leaves was the oldest of its key: the next one's turn has come.</summary>
    private void Free(Answer answer)
    {
        var row = answer.Row;
        if (row.IsHeld && HeldKeys.Of(row.Event.Address, row.Event.PartitionKey) is { } key
            && (answer.Result.Fate != PublishFate.Deferred || answer.Address is not null))
            freed.Add(key);
        if (row.WaitsFor is { } obstacle && obstacle != answer.Obstacle) removed.Add(obstacle);
    }

    private void Take(Answer answer)
    {
        var (row, key) = (answer.Row, answer.Key);
        switch (answer.Result.Fate)
        {
            case PublishFate.Taken:
                if (answer.Address is null || forgotten is not [.., var last] || last.Row != row.Row)
                    forgotten.Add(row);
                break;
            case PublishFate.Refused:
                Hold(answer, row.Attempts + 1, null);
                break;
            case PublishFate.Deferred when key is not null && keys.TryGetValue(key, out var after):
                if (answer.Address is not null || !row.IsHeld) Follow(answer, after ?? TimeSpan.Zero);
                break;
            case PublishFate.Deferred when answer.Address is not null && key is not null && heldBefore.Contains(key):
                Follow(answer, TimeSpan.Zero);
                break;
            default:
                var first = delay(row.Attempts + 1);
                Hold(answer, row.Attempts + 1, first);
                if (answer.Obstacle is { } obstacle) Meet(obstacle, first, row.WaitsFor == obstacle);
                if (key is not null) keys.Add(key, answer.Result.IsBlocked ? null : first);
                break;
        }
    }

    private void Meet(string obstacle, TimeSpan after, bool wasTried)
    {
        if (obstacles.TryGetValue(obstacle, out var known) && (known.WasTried || !wasTried)) return;
        obstacles[obstacle] = new(obstacle, after < obstacleDelay ? after : obstacleDelay, wasTried);
    }

    private void Follow(Answer answer, TimeSpan after) => Hold(answer, 0, after, Follows, null);

    private void Hold(Answer answer, int attempts, TimeSpan? after) =>
        Hold(answer, attempts, after, answer.Result.Reason!, answer.Obstacle);

    private void Hold(Answer answer, int attempts, TimeSpan? after, string reason, string? waitsFor)
    {
        if (answer.Address is { } address)
        {
            parts.Add(new HeldPart(answer.Row.Row, address, answer.Key, attempts, after, reason)
            {
                WaitsFor = waitsFor,
            });
        }
        else
        {
            held.Add(new HeldRow(answer.Row.Row, attempts, after, reason) { WaitsFor = waitsFor });
        }
    }

    private OutboxMarks End()
    {
        freed.ExceptWith(keys.Keys);
        removed.ExceptWith(obstacles.Keys);
        // Of what is left of a row its parts tell.
        var inParts = parts.Select(p => p.Row).ToHashSet();
        if (inParts.Count > 0) forgotten.RemoveAll(row => inParts.Contains(row.Row));
        return new OutboxMarks(forgotten, held, [.. keys.Select(k => new HeldKey(k.Key, k.Value))], [.. freed])
        {
            Parts = parts, Obstacles = [.. obstacles.Values], Removed = [.. removed],
        };
    }
}
