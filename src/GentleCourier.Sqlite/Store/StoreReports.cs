using GentleCourier.Engines;
using GentleCourier.Publishing;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What people and tools want to read of a store.</summary>
internal static class StoreReports
{
    public static OutboxFigures Outbox(SqliteConnection connection, long now)
    {
        using var statement = new Statement(connection, """
            SELECT (SELECT count(*) FROM (SELECT 1 FROM courier_outbox LIMIT ?2)),
                   (SELECT max(seq) FROM courier_outbox) - (SELECT min(seq) FROM courier_outbox) + 1,
                   (SELECT count(*) FROM (SELECT 1 FROM courier_outbox_held LIMIT ?3)),
                   (SELECT count(*) FROM (SELECT due FROM courier_outbox_held ORDER BY seq LIMIT ?3) WHERE due IS NULL),
                   (SELECT added FROM courier_outbox ORDER BY seq LIMIT 1),
                   (SELECT added FROM courier_outbox_held WHERE due IS NOT NULL ORDER BY seq LIMIT 1),
                   iif(until >= ?1, relay, NULL), error,
                   (SELECT count(*) FROM (SELECT 1 FROM courier_outbox_later LIMIT ?4)),
                   (SELECT min(due) FROM (
                       SELECT min(due) AS due FROM courier_outbox_later
                       UNION ALL SELECT min(due) FROM courier_schedule)),
                   (SELECT count(DISTINCT generation) FROM courier_confirmed)
            FROM courier_relay
            """);
        statement.Bind(1, now).Bind(2, OutboxCount.Fresh + 1).Bind(3, OutboxCount.Kept + 1).Bind(4, OutboxCount.Later)
            .Step();
        var oldest = new[] { statement.NullableInt64(4), statement.NullableInt64(5) }.Min();
        var age = oldest is { } added ? TimeSpan.FromMilliseconds(Math.Max(0, now - added)) : (TimeSpan?)null;
        var figures = OutboxCount.Figures(
            statement.Int64(0), statement.NullableInt64(1), statement.Int64(2), statement.Int64(3), age,
            statement.Text(6), statement.Text(7)) with
        {
            Later = statement.Int64(8),
            NextDueIn = statement.NullableInt64(9) is { } due ? TimeSpan.FromMilliseconds(due - now) : null,
            FormerBrokers = OutboxCount.Former(statement.Int64(10)),
        };
        statement.Reset();
        return figures;
    }

    private const string SelectHeld = """
        SELECT event_id, type, attempts, error, iif(h.due IS NULL, NULL, coalesce(k.due, h.due)), added, seq,
            h.partition_key, event, address
        FROM courier_outbox_held h LEFT JOIN courier_held_key k ON k.partition_key = h.partition_key
        """;

    public static IReadOnlyList<HeldEvent> Held(SqliteConnection connection, int limit, long after)
    {
        using var statement = new Statement(connection, $"{SelectHeld} WHERE seq > ? ORDER BY seq LIMIT ?");
        return Read(statement.Bind(1, after).Bind(2, limit));
    }

    public static HeldEvent? FindHeld(SqliteConnection connection, long row)
    {
        using var statement = new Statement(connection, $"{SelectHeld} WHERE seq = ?");
        return Read(statement.Bind(1, row)).FirstOrDefault();
    }

    private static List<HeldEvent> Read(Statement statement)
    {
        var (held, bytes) = (new List<HeldEvent>(), 0);
        while (statement.Step())
        {
            held.Add(new HeldEvent(
                statement.Int64(6), statement.Text(0)!, statement.Text(1)!, (int)statement.Int64(2),
                statement.Text(3)!, statement.NullableInt64(4) is { } at ? Time(at) : null, Time(statement.Int64(5)))
            {
                PartitionKey = HeldKeys.KeyOf(statement.Text(9), statement.Text(7)),
                Address = statement.Text(9),
                Json = statement.Blob(8),
            });
            bytes += held[^1].Json.Length;
            if (bytes < Budget.Bytes) continue;
            statement.Reset();
            break;
        }
        return held;
    }

    public static OtherDataFigures? OtherData(SqliteConnection connection, long now)
    {
        using var statement = new Statement(connection, """
            SELECT (SELECT count(*) FROM (
                    SELECT 1 FROM courier_inbox WHERE other IS NOT NULL AND other_at > ?1 LIMIT ?2)),
                queue, source, event_id, hash, other, other_at
            FROM courier_inbox WHERE other IS NOT NULL AND other_at > ?1 ORDER BY other_at DESC LIMIT 1
            """);
        var since = now - (long)OtherDataFigures.Memory.TotalMilliseconds;
        if (!statement.Bind(1, since).Bind(2, OtherDataFigures.MostEvents).Step()) return null;
        var figures = new OtherDataFigures(
            (int)statement.Int64(0), statement.Text(1)!, statement.Text(2)!, statement.Text(3)!,
            OtherDataFigures.HashOf(statement.Int64(4)), OtherDataFigures.HashOf(statement.Int64(5)),
            TimeSpan.FromMilliseconds(now - statement.Int64(6)));
        statement.Reset();
        return figures;
    }

    public static DateTimeOffset? ForgottenBefore(SqliteConnection connection)
    {
        using var statement = new Statement(connection, "SELECT max(before) FROM courier_store_chore");
        return statement.Scalar() is { } before ? Time(before) : null;
    }

    private static DateTimeOffset Time(long milliseconds) => DateTimeOffset.FromUnixTimeMilliseconds(milliseconds);

    public static IReadOnlyList<InboxEntry> Inbox(SqliteConnection connection, string queue)
    {
        using var statement = new Statement(
            connection, "SELECT source, event_id, copies, handled FROM courier_inbox WHERE queue = ? ORDER BY handled");
        statement.Bind(1, queue);
        var entries = new List<InboxEntry>();
        while (statement.Step())
        {
            entries.Add(new InboxEntry(
                statement.Text(0)!, statement.Text(1)!, (int)statement.Int64(2),
                    Time(statement.Int64(3))));
        }
        return entries;
    }
}
