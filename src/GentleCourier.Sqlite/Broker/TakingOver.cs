using GentleCourier.Engines;

namespace GentleCourier.Sqlite;

/// <summary>How a broker takes events over from another one.</summary>
internal static class TakingOver
{
    /// <returns>For each the dead letter that it has become, if it is one and was none.</returns>
    public static string?[] Run(
        BrokerStatements statements, long queue, string worker, IReadOnlyList<TakenOver> events, long now)
    {
        var letters = new string?[events.Count];
        var (waiting, failed, setAside) = (0, 0, 0);
        for (var i = 0; i < letters.Length; i++)
        {
            var (taken, identity) = (events[i], $"{queue}:{events[i].Identity}");
            var before = statements.LetterOf(identity);
            if (taken.Rejected is not null)
            {
                if (before is not null) continue;
                letters[i] = statements.AddLetter(queue, now, taken, worker, identity);
                setAside++;
            }
            // One that nobody has tried yet, as far as is known, may be a dead letter by now; one that failed is at
            // work.
            else if (!statements.IsHere(identity) && (before is null || taken.Again is not null))
            {
                statements.AddTakenOver(queue, now, taken, identity);
                waiting++;
                if (taken.Again is { Counts: true }) failed++;
            }
        }
        statements.Deliveries.Count(
            queue, waiting, inHand: 0, came: waiting + setAside, accepted: 0, failed, setAside, lettersGone: 0);
        return letters;
    }
}
