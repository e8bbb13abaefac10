using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>Looks into the inbox on a connection of its own; one caller at a time.</summary>
internal sealed class InboxReader(SqliteConnection connection, InboxOrigins origins) : IDisposable
{
    public const string IsThere = "SELECT 1 FROM courier_inbox WHERE origin = ? AND id = ?";

    private readonly Statement isThere = new(connection, IsThere);

    public static bool[] Look(
        Statement isThere, InboxOrigins origins, string queue, IReadOnlyList<EventKey> events)
    {
        var found = new bool[events.Count];
        for (var i = 0; i < found.Length; i++)
            found[i] = isThere.Bind(1, origins.KeyOf(queue, events[i].Source, events[i].Id)).Scalar() is not null;
        return found;
    }

    public bool[] Look(string queue, IReadOnlyList<EventKey> events) => Look(isThere, origins, queue, events);

    public void Dispose()
    {
        isThere.Dispose();
        connection.Dispose();
    }
}
