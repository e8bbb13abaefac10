using System.Globalization;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What is written with the dead letters of a broker.</summary>
internal static class BrokerLetters
{
    private const int LettersAStep = 500;

    /// <summary>For each whether it went back; the queues that got something.</summary>
    public static (bool[] Went, IReadOnlyCollection<long> Touched) SendBack(
        BrokerStatements statements, IReadOnlyList<LetterReturn> letters, FileClock time)
    {
        var went = new bool[letters.Count];
        var counts = new Dictionary<long, int>();
        for (var i = 0; i < went.Length; i++)
        {
            if (statements.TakeLetter(letters[i].Letter.Id) is not var (queue, identity)) continue;
            statements.AddCopy(
                queue, time.Now, letters[i].Json.Span, statements.Deliveries.IsInKeyOrder(queue),
                letters[i].PartitionKey, HistoryJson.Of(letters[i], time.Shown(time.Now)), identity);
            counts[queue] = counts.GetValueOrDefault(queue) + 1;
            went[i] = true;
        }
        foreach (var (queue, count) in counts)
            statements.Deliveries.Count(queue, waiting: count, came: count, lettersGone: count);
        return (went, counts.Keys);
    }

    /// <summary>For each whether it was there.</summary>
    public static bool[] Discard(BrokerStatements statements, IReadOnlyList<string> ids)
    {
        var queues = ids.Select(id => statements.TakeLetter(id)?.Queue).ToArray();
        foreach (var (queue, count) in queues.OfType<long>().CountBy(queue => queue))
            statements.Deliveries.Count(queue, lettersGone: count);
        return Array.ConvertAll(queues, queue => queue is not null);
    }

    /// <summary>Removes the oldest letters of a queue, as far as they are old enough.</summary>
    public static ChoreStep ClearOld(BrokerStatements statements, long queue, long before)
    {
        var old = statements.OldLetters(queue, before, LettersAStep);
        foreach (var letter in old) statements.Discard(letter);
        if (old.Count > 0) statements.Deliveries.Count(queue, lettersGone: old.Count);
        return new(old.Count, old.Count == LettersAStep ? "" : null);
    }
}
