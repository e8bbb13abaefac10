using System.Globalization;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>The dead letters of a broker: reading them, and what is written with them.</summary>
internal static class BrokerLetters
{
    private const int LettersAStep = 500;

    private const string Select = """
        SELECT d.id, q.name, d.reason, d.exception, d.message, d.stack, d.attempts, d.worker, d.arrived,
            d.first_attempt, d.set_aside, d.event, d.history
        FROM courier_dead_letter d JOIN courier_queue q ON q.id = d.queue
        """;

    /// <summary>Ids are numbers, the later letter's the greater.</summary>
    public static bool TryParse(string id, out long number) =>
        long.TryParse(id, NumberStyles.None, CultureInfo.InvariantCulture, out number);

    public static IReadOnlyList<DeadLetter> Read(
        SqliteConnection connection, FileClock time, long? queue, int limit, string? beyond, bool oldestFirst)
    {
        var (than, order, from) = oldestFirst ? (">", "", 0L) : ("<", "DESC", long.MaxValue);
        if (beyond is not null && !TryParse(beyond, out from)) return [];
        // Each condition by itself, so that an index is of use.
        var of = queue is null ? "" : "AND d.queue = ?3";
        using var statement = new Statement(
            connection, $"{Select} WHERE d.id {than} ?1 {of} ORDER BY d.id {order} LIMIT ?2");
        statement.Bind(1, from).Bind(2, limit);
        if (queue is { } id) statement.Bind(3, id);
        return Read(statement, time);
    }

    public static DeadLetter? Find(SqliteConnection connection, FileClock time, string id)
    {
        if (!TryParse(id, out var number)) return null;
        using var statement = new Statement(connection, $"{Select} WHERE d.id = ?");
        return Read(statement.Bind(1, number), time).FirstOrDefault();
    }

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
                queue, time.Now, letters[i].Json.Span, statements.IsInKeyOrder(queue),
                letters[i].PartitionKey, HistoryJson.Of(letters[i], time.Shown(time.Now)), identity);
            counts[queue] = counts.GetValueOrDefault(queue) + 1;
            went[i] = true;
        }
        foreach (var (queue, count) in counts)
            statements.Count(queue, waiting: count, came: count, lettersGone: count);
        return (went, counts.Keys);
    }

    /// <summary>For each whether it was there.</summary>
    public static bool[] Discard(BrokerStatements statements, IReadOnlyList<string> ids)
    {
        var queues = ids.Select(id => statements.TakeLetter(id)?.Queue).ToArray();
        foreach (var (queue, count) in queues.OfType<long>().CountBy(queue => queue))
            statements.Count(queue, lettersGone: count);
        return Array.ConvertAll(queues, queue => queue is not null);
    }

    /// <summary>Removes the oldest letters of a queue, as far as they are old enough.</summary>
    public static ChoreStep ClearOld(BrokerStatements statements, long queue, long before)
    {
        var old = statements.OldLetters(queue, before, LettersAStep);
        foreach (var letter in old) statements.Discard(letter);
        if (old.Count > 0) statements.Count(queue, lettersGone: old.Count);
        return new(old.Count, old.Count == LettersAStep ? "" : null);
    }

    private static List<DeadLetter> Read(Statement statement, FileClock time)
    {
        var (letters, bytes) = (new List<DeadLetter>(), 0);
        while (statement.Step())
        {
            letters.Add(new DeadLetter
            {
                Id = statement.Int64(0).ToString(CultureInfo.InvariantCulture),
                Queue = statement.Text(1)!,
                Reason = statement.Text(2)!,
                Failure = statement.Text(3) is { } exception
                    ? new Failure(exception, statement.Text(4) ?? "", statement.Text(5) ?? "") : null,
                Attempts = (int)statement.Int64(6),
                Worker = statement.Text(7)!,
                Arrived = time.Shown(statement.Int64(8)),
                FirstAttempt = time.Shown(statement.Int64(9)),
                SetAside = time.Shown(statement.Int64(10)),
                Json = statement.Blob(11),
                History = HistoryJson.Read(statement.Text(12)),
            });
            bytes += letters[^1].Json.Length;
            if (bytes < Budget.Bytes) continue;
            statement.Reset();
            break;
        }
        return letters;
    }
}
