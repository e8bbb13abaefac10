using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>Looks into the inbox on a connection of its own; one caller at a time.</summary>
internal sealed class InboxReader(SqliteConnection connection) : IDisposable
{
    public const string IsThere = "SELECT 1 FROM courier_inbox WHERE queue = ? AND source = ? AND event_id = ?";

    private readonly Statement isThere = new(connection, IsThere);

    public static bool[] Look(Statement isThere, string queue, IReadOnlyList<EventKey> events)
    {
        var found = new bool[events.Count];
        for (var i = 0; i < found.Length; i++)
            found[i] = isThere.Bind(1, queue).Bind(2, events[i].Source).Bind(3, events[i].Id).Scalar() is not null;
        return found;
    }

    public bool[] Look(string queue, IReadOnlyList<EventKey> events) => Look(isThere, queue, events);

    public void Dispose()
    {
        isThere.Dispose();
        connection.Dispose();
    }
}
