using System.Data;
using System.Data.Common;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>
/// What is written into outbox and inbox inside a transaction of the service's own, on its connection. The statements
/// are kept for as long as that is open. Not thread-safe, as the connection.
/// </summary>
internal sealed class ServiceConnection : IDisposable
{
    private readonly SqliteConnection connection;
    private readonly SqliteFile file;
    private readonly FileIdentity? opened;
    private Statement? addToOutbox, addToLater, addToInbox, nameSource, takeFromInbox;

    /// <exception cref="CourierException">It goes to another file than the store's.</exception>
    public ServiceConnection(SqliteConnection connection, SqliteFile file)
    {
        Check(connection, file);
        (this.connection, this.file) = (connection, file);
        opened = connection is StoreConnection known ? known.Opened : file.Identity;
        connection.StateChange += (_, change) =>
        {
            if (change.CurrentState != ConnectionState.Open) Dispose();
        };
    }

    /// <exception cref="CourierException">It goes to another database than the store's.</exception>
    public static SqliteConnection Check(DbConnection connection, SqliteFile file)
    {
        if (connection is SqliteConnection known && Path.GetFullPath(known.DataSource) == file.Path) return known;
        var where = connection is SqliteConnection ? connection.DataSource : $"a {connection.GetType().Name}";
        throw new CourierException(
            $"the service writes to {where}, and its store is {file.DisplayName}; both must be one database, or their "
            + "changes would not commit together: "
            + "open connections with IStore.OpenConnectionAsync, or by IStore.ConnectionString");
    }

    /// <exception cref="CourierException">Another file is at its place by now.</exception>
    public void AddToOutbox(EncodedEvent @event, long now)
    {
        if (file.Identity != opened) throw file.Replaced();
        addToOutbox ??= new Statement(connection,
            "INSERT INTO courier_outbox (event_id, type, partition_key, added, event) VALUES (?, ?, ?, ?, ?)");
        addToOutbox.Bind(1, @event.Id).Bind(2, @event.Type).Bind(3, @event.PartitionKey).Bind(4, now)
            .Bind(5, @event.Json.Span).Run();
    }

    /// <summary>The connection itself.</summary>
    public SqliteConnection Connection => connection;

    /// <exception cref="CourierException">Another file is at its place by now.</exception>
    public void AddToLater(EncodedEvent @event, long now, long due, bool byClock)
    {
        if (file.Identity != opened) throw file.Replaced();
        addToLater ??= new Statement(connection, """
            INSERT INTO courier_outbox_later (event_id, type, partition_key, added, due, by_clock, event)
            VALUES (?, ?, ?, ?, ?, ?, ?)
            """);
        addToLater.Bind(1, @event.Id).Bind(2, @event.Type).Bind(3, @event.PartitionKey).Bind(4, now).Bind(5, due)
            .Bind(6, byClock ? 1 : 0).Bind(7, @event.Json.Span).Run();
    }

    /// <returns>False where one is there already.</returns>
    public bool AddToInbox(ReadOnlySpan<InboxKey> keys, IReadOnlyList<InboxEvent> events, long now)
    {
        addToInbox ??= new Statement(connection, """
            INSERT INTO courier_inbox (origin, id, handled, hash) VALUES (?, ?, ?, ?)
            ON CONFLICT DO NOTHING
            """);
        for (var i = 0; i < keys.Length; i++)
        {
            addToInbox.Bind(1, keys[i]).Bind(3, now).Bind(4, events[i].Hash);
            if (addToInbox.Run() == 0) return false;
        }
        return true;
    }

    /// <summary>Writes the names of sources, or that they are in use.</summary>
    public void NameSources(string queue, IEnumerable<InboxOrigins.Origin> origins, long now)
    {
        nameSource ??= new Statement(connection, """
            INSERT INTO courier_inbox_source (origin, queue, source, seen) VALUES (?, ?, ?, ?)
            ON CONFLICT (origin) DO UPDATE SET seen = max(seen, excluded.seen)
            """);
        foreach (var origin in origins)
            nameSource.Bind(1, origin.Number).Bind(2, queue).Bind(3, origin.Source).Bind(4, now).Run();
    }

    public void TakeFromInbox(IEnumerable<InboxKey> keys)
    {
        takeFromInbox ??= new Statement(connection, "DELETE FROM courier_inbox WHERE origin = ? AND id = ?");
        foreach (var key in keys) takeFromInbox.Bind(1, key).Run();
    }

    public void Dispose()
    {
        addToOutbox?.Dispose();
        addToLater?.Dispose();
        addToInbox?.Dispose();
        nameSource?.Dispose();
        takeFromInbox?.Dispose();
        addToOutbox = addToLater = addToInbox = nameSource = takeFromInbox = null;
    }
}
