using System.Text.Json;
using System.Text.Json.Serialization;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>
/// What of a store is old enough to be cleared away, a step at a time. The inbox has no index by age, which each event
/// would pay for: it is gone through in the order of its key.
/// </summary>
/// <param name="Keys">Of the inbox queue, source and id of an event; of another table the last alone.</param>
/// <param name="Next">Behind which key to go on; null: there are no more rows.</param>
internal sealed record OldRows(IReadOnlyList<(string Queue, string Source, string Id)> Keys, string? Next)
{
    // Each takes a few milliseconds.
    private const int LooksAStep = 20_000, RemovalsAStep = 2_000;

    public static OldRows Find(SqliteConnection connection, Chore chore, string? from, long before) => chore.Kind switch
    {
        ChoreKind.Inbox => Inbox(connection, from, before),
        ChoreKind.Refused => Refused(connection, before),
        _ => throw new ArgumentException($"a store does not do {chore.Name}", nameof(chore)),
    };

    /// <summary>Removes those that are still there, and still old enough.</summary>
    public int RemoveBy(StoreStatements statements, Chore chore, long before) => chore.Kind switch
    {
        ChoreKind.Inbox => statements.Forget(chore, Keys, before),
        _ => statements.Remove(
            "DELETE FROM courier_outbox_held WHERE seq = ? AND due IS NULL AND added < ?", Ids, before),
    };

    private IEnumerable<string> Ids => Keys.Select(key => key.Id);

    private static OldRows Inbox(SqliteConnection connection, string? from, long before)
    {
        using var statement = new Statement(connection, """
            SELECT queue, source, event_id, handled < ?4 FROM courier_inbox
            WHERE (queue, source, event_id) > (?1, ?2, ?3) ORDER BY queue, source, event_id LIMIT ?5
            """);
        var (queue, source, id) = Split(from);
        statement.Bind(1, queue).Bind(2, source).Bind(3, id).Bind(4, before).Bind(5, LooksAStep);
        var (old, looked) = (new List<(string, string, string)>(), 0);
        while (statement.Step())
        {
            looked++;
            (queue, source, id) = (statement.Text(0)!, statement.Text(1)!, statement.Text(2)!);
            if (statement.Int64(3) == 0) continue;
            old.Add((queue, source, id));
            if (old.Count < RemovalsAStep) continue;
            statement.Reset();
            break;
        }
        var isEnd = looked < LooksAStep && old.Count < RemovalsAStep;
        return new(old, isEnd ? null : Join(queue, source, id));
    }

    private static OldRows Refused(SqliteConnection connection, long before)
    {
        using var statement = new Statement(
            connection, "SELECT seq FROM courier_outbox_held WHERE due IS NULL AND added < ? ORDER BY seq LIMIT ?");
        statement.Bind(1, before).Bind(2, RemovalsAStep);
        var old = new List<(string, string, string)>();
        while (statement.Step()) old.Add(("", "", statement.Text(0)!));
        return new(old, old.Count < RemovalsAStep ? null : "");
    }

    private static string Join(params string[] parts) =>
        JsonSerializer.Serialize(parts, PlaceJson.Default.StringArray);

    private static (string Queue, string Source, string Id) Split(string? place) => place is not null
        && JsonSerializer.Deserialize(place, PlaceJson.Default.StringArray) is [var queue, var source, var id]
        ? (queue, source, id) : ("", "", "");
}

/// <summary>Texts of an event may hold anything: a place between them is kept as JSON.</summary>
[JsonSerializable(typeof(string[]))]
internal sealed partial class PlaceJson : JsonSerializerContext;
