using System.Globalization;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>
/// What of a store is old enough to be cleared away, a step at a time. The inbox has no index by age, which each event
/// would pay for: it is gone through in the order of its key.
/// </summary>
/// <param name="Rows">Their keys; of another table than the inbox a number alone.</param>
/// <param name="AreNames">Whether they are names in the inbox.</param>
/// <param name="Next">Behind which key to go on; null: there are no more rows.</param>
internal sealed record OldRows(IReadOnlyList<InboxKey> Rows, bool AreNames, string? Next)
{
    // Each takes a few milliseconds.
    private const int LooksAStep = 20_000, RemovalsAStep = 2_000, NamesAStep = 1_000;
    private const string Names = "names behind ";

    /// <summary>An event's id as a text, whether it is kept as one or as the bytes of a UUID.</summary>
    public const string HandledId = """
        iif(typeof(id) = 'text', id, lower(substr(hex(id), 1, 8) || '-' || substr(hex(id), 9, 4) || '-'
            || substr(hex(id), 13, 4) || '-' || substr(hex(id), 17, 4) || '-' || substr(hex(id), 21)))
        """;

    public static OldRows Find(SqliteConnection connection, Chore chore, string? from, long before) => chore.Kind switch
    {
        ChoreKind.Inbox when from?.StartsWith(Names, StringComparison.Ordinal) == true =>
            NamesOf(connection, from[Names.Length..], before),
        ChoreKind.Inbox => Inbox(connection, from, before),
        ChoreKind.Refused => Refused(connection, before),
        _ => throw new ArgumentException($"a store does not do {chore.Name}", nameof(chore)),
    };

    /// <summary>Removes those that are still there, and still old enough.</summary>
    public int RemoveBy(StoreStatements statements, Chore chore, long before) => chore.Kind switch
    {
        ChoreKind.Inbox when AreNames => statements.Remove(
            "DELETE FROM courier_inbox_source WHERE origin = ? AND seen < ?", Numbers, Unused(before)),
        ChoreKind.Inbox => statements.Forget(chore, Rows, before),
        _ => statements.Remove(
            "DELETE FROM courier_outbox_held WHERE seq = ? AND due IS NULL AND added < ?", Numbers, before),
    };

    private IEnumerable<long> Numbers => Rows.Select(row => row.Origin);

    /// <summary>Who handles writes a name again after an hour.</summary>
    private static long Unused(long before) => before - 2 * (long)InboxOrigins.Every.TotalMilliseconds;

    private static OldRows Inbox(SqliteConnection connection, string? from, long before)
    {
        using var statement = Statement.On(connection, """
            SELECT origin, id, handled < ?3 FROM courier_inbox WHERE (origin, id) > (?1, ?2)
            ORDER BY origin, id LIMIT ?4
            """);
        var last = Split(from);
        statement.Bind(1, last).Bind(3, before).Bind(4, LooksAStep);
        var (old, looked) = (new List<InboxKey>(), 0);
        while (statement.Step())
        {
            looked++;
            last = statement.Key(0);
            if (statement.Int64(2) == 0) continue;
            old.Add(last);
            if (old.Count < RemovalsAStep) continue;
            statement.Reset();
            break;
        }
        var isEnd = looked < LooksAStep && old.Count < RemovalsAStep;
        return new(old, false, isEnd ? Names + Text(long.MinValue) : Join(last));
    }

    /// <summary>After the events: names that none of them has, and that nobody uses.</summary>
    private static OldRows NamesOf(SqliteConnection connection, string after, long before)
    {
        using var statement = Statement.On(connection, """
            SELECT origin, seen < ?2 AND NOT EXISTS (
                SELECT 1 FROM courier_inbox i WHERE i.origin = s.origin) FROM courier_inbox_source s
            WHERE origin > ?1 ORDER BY origin LIMIT ?3
            """);
        var last = long.Parse(after, CultureInfo.InvariantCulture);
        statement.Bind(1, last).Bind(2, Unused(before)).Bind(3, NamesAStep);
        var (unused, looked) = (new List<InboxKey>(), 0);
        while (statement.Step())
        {
            looked++;
            last = statement.Int64(0);
            if (statement.Int64(1) != 0) unused.Add(new(last, default, null));
        }
        return new(unused, true, looked == NamesAStep ? Names + Text(last) : null);
    }

    private static OldRows Refused(SqliteConnection connection, long before)
    {
        using var statement = Statement.On(
            connection, "SELECT seq FROM courier_outbox_held WHERE due IS NULL AND added < ? ORDER BY seq LIMIT ?");
        statement.Bind(1, before).Bind(2, RemovalsAStep);
        var old = new List<InboxKey>();
        while (statement.Step()) old.Add(new(statement.Int64(0), default, null));
        return new(old, false, old.Count < RemovalsAStep ? null : "");
    }

    private static string Join(InboxKey key) =>
        key.Name is null ? $"{Text(key.Origin)} {key.Uuid}" : $"{Text(key.Origin)}={key.Name}";

    private static InboxKey Split(string? place)
    {
        if (place is null) return new(long.MinValue, default, "");
        var end = place.AsSpan().IndexOfAny(' ', '=');
        var (origin, id) = (long.Parse(place.AsSpan(0, end), CultureInfo.InvariantCulture), place[(end + 1)..]);
        return place[end] == ' ' ? new(origin, Guid.Parse(id), null) : new(origin, default, id);
    }

    private static string Text(long place) => place.ToString(CultureInfo.InvariantCulture);
}
