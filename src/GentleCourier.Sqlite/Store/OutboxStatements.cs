using GentleCourier.Engines;
using GentleCourier.Publishing;

namespace GentleCourier.Sqlite;

/// <summary>How a relay reads an outbox: what is due of what is held, and what is fresh.</summary>
internal sealed class OutboxStatements(Prepared all)
{
    private const string HeldColumns = "event_id, type, partition_key, added, event";
    private const string IsFree =
        "(partition_key IS NULL OR partition_key NOT IN (SELECT partition_key FROM courier_held_key))";
    private const string HeldRow = "seq, event_id, type, partition_key, event, attempts, address, added";

    private readonly Statement isPaused = all.Add(
        "SELECT 1 FROM courier_relay_pause WHERE until IS NULL OR until > ?");
    private readonly Statement holdsSome = all.Add("""
        SELECT 1 WHERE EXISTS (SELECT 1 FROM courier_held_key) OR EXISTS (SELECT 1 FROM courier_held_obstacle)
        """);
    private readonly Statement fresh = all.Add(
        "SELECT seq, event_id, type, partition_key, event, 0, NULL, added FROM courier_outbox ORDER BY seq "
        + "LIMIT ?");
    private readonly Statement freshBesides = all.Add($"""
        SELECT seq, event_id, type, partition_key, event, 0, NULL, added FROM courier_outbox WHERE {IsFree}
        ORDER BY seq LIMIT ?
        """);
    private readonly Statement dropKeys = all.Add("""
        DELETE FROM courier_held_key WHERE partition_key IN (
                SELECT partition_key FROM courier_held_key WHERE due <= ?1 ORDER BY due LIMIT ?2)
            AND NOT EXISTS (
                SELECT 1 FROM courier_outbox_held h
                WHERE h.partition_key = courier_held_key.partition_key AND h.partition_key IS NOT NULL
                    AND h.due IS NOT NULL)
        """);
    private readonly Statement dropObstacles = all.Add("""
        DELETE FROM courier_held_obstacle WHERE due <= ?1 AND NOT EXISTS (
            SELECT 1 FROM courier_outbox_held h
            WHERE h.waits_for = courier_held_obstacle.waits_for AND h.waits_for IS NOT NULL)
        """);
    private readonly Statement holdFollowers = all.Add($"""
        INSERT INTO courier_outbox_held ({HeldColumns}, attempts, due, error)
        SELECT {HeldColumns}, 0, added, '{Marking.Follows}'
        FROM (SELECT * FROM courier_outbox ORDER BY seq LIMIT ?) o
        WHERE partition_key IN (SELECT partition_key FROM courier_held_key)
        ORDER BY seq
        """);
    private readonly Statement deleteFollowers = all.Add("""
        DELETE FROM courier_outbox WHERE seq IN (
            SELECT seq FROM (SELECT seq, partition_key FROM courier_outbox ORDER BY seq LIMIT ?)
            WHERE partition_key IN (SELECT partition_key FROM courier_held_key))
        """);

    /// <summary>
    /// Order: a fresh event must not pass an earlier one with its key that is held. Where a key is held, which is rare,
    /// its fresh events are moved behind it, a batch at a time, and the others read besides, in one transaction.
    /// </summary>
    public OutboxBatch Read(int limit, long now)
    {
        if (isPaused.Bind(1, now).Scalar() is not null) return OutboxBatch.Paused;
        if (holdsSome.Scalar() is null) return Read(fresh, limit, now);
        return all.InTransaction(() =>
        {
            dropKeys.Bind(1, now).Bind(2, limit).Run();
            dropObstacles.Bind(1, now).Run();
            holdFollowers.Bind(1, limit).Run();
            deleteFollowers.Bind(1, limit).Run();
            return Read(freshBesides, limit, now);
        });
    }

    private readonly Statement freshBehind = all.Add($"""
        SELECT seq, event_id, type, partition_key, event, 0, NULL, added FROM courier_outbox
        WHERE seq > ?1 AND {IsFree} AND (SELECT count(*) FROM courier_outbox WHERE seq <= ?1 AND {IsFree}) = ?2
        ORDER BY seq LIMIT ?3
        """);

    /// <summary>
    /// Here events are numbered as they are committed. But another leader may have emptied the table meanwhile, and its
    /// numbers have begun again. What waits for its key is passed by where it is: to be moved, it has to come in order.
    /// </summary>
    public OutboxBatch ReadOn(IReadOnlyList<OutboxRow> underWay, int limit, long now)
    {
        var rows = new List<OutboxRow>();
        freshBehind.Bind(1, underWay[^1].Row).Bind(2, underWay.Count(row => !row.IsHeld)).Bind(3, limit);
        var bytes = Take(freshBehind, rows, 1, now);
        return new OutboxBatch(rows, null, rows.Count == limit || bytes >= Budget.Bytes);
    }

    private readonly Statement due = all.Add($"""
        SELECT {HeldRow} FROM courier_outbox_held WHERE partition_key IS NULL AND waits_for IS NULL AND due <= ?
        ORDER BY due, seq LIMIT ?
        """);
    private readonly Statement dueObstacles = all.Add(
        "SELECT waits_for, freed FROM courier_held_obstacle WHERE due <= ? ORDER BY freed, due LIMIT ?");
    private readonly Statement ofObstacle = all.Add($"""
        SELECT {HeldRow} FROM courier_outbox_held WHERE waits_for = ? AND waits_for IS NOT NULL ORDER BY seq LIMIT ?
        """);
    private readonly Statement dueKeys = all.Add(
        "SELECT partition_key, flows FROM courier_held_key WHERE due <= ? ORDER BY due LIMIT ?");
    private readonly Statement ofKey = all.Add($"""
        SELECT {HeldRow} FROM courier_outbox_held
        WHERE partition_key = ? AND partition_key IS NOT NULL AND due IS NOT NULL ORDER BY seq LIMIT ?
        """);
    private readonly Statement nextDue = all.Add("""
        SELECT min(due) FROM (
            SELECT min(due) AS due FROM courier_outbox_held WHERE partition_key IS NULL AND waits_for IS NULL
            UNION ALL SELECT min(due) FROM courier_held_key WHERE due IS NOT NULL
            UNION ALL SELECT min(due) FROM courier_held_obstacle)
        """);

    private OutboxBatch Read(Statement freshRows, int limit, long now)
    {
        // A quarter of a batch at the most is for events that have failed before, and another for those that follow
        // them: however many there are, fresh ones get through.
        var quarter = Math.Max(1, limit / 4);
        var rows = new List<OutboxRow>();
        Take(due.Bind(1, now).Bind(2, quarter), rows, -1, now);
        var keys = new List<(string Key, bool Flows)>();
        dueKeys.Bind(1, now).Bind(2, quarter);
        while (dueKeys.Step()) keys.Add((dueKeys.Text(0)!, dueKeys.Int64(1) != 0));
        var ofKeys = 0;
        foreach (var (key, flows) in keys)
        {
            if (ofKeys >= quarter) break;
            var before = rows.Count;
            Take(ofKey.Bind(1, key).Bind(2, flows ? quarter - ofKeys : 1), rows, -1, now);
            ofKeys += rows.Count - before;
        }

        var waiting = TakeWaiting(rows, limit, now);
        var held = rows.Count;
        var bytes = Take(freshRows.Bind(1, limit), rows, 1, now);
        return new OutboxBatch(
            rows, nextDue.Scalar() is { } at ? TimeSpan.FromMilliseconds(at - now) : null,
            waiting == limit || rows.Count - held == limit || bytes >= Budget.Bytes);
    }

    /// <summary>
    /// Of obstacles that are due the oldest event that waits for each; of those that are gone, as many as a batch
    /// takes. Each was the first of its key when it was held, and still is.
    /// </summary>
    /// <returns>How many.</returns>
    private int TakeWaiting(List<OutboxRow> rows, int limit, long now)
    {
        var obstacles = new List<(string Name, bool IsGone)>();
        dueObstacles.Bind(1, now).Bind(2, Math.Max(1, limit / 4));
        while (dueObstacles.Step()) obstacles.Add((dueObstacles.Text(0)!, dueObstacles.Int64(1) != 0));
        var (first, bytes) = (rows.Count, 0L);
        foreach (var (name, isGone) in obstacles)
        {
            var left = limit - (rows.Count - first);
            if (left == 0 || bytes >= Budget.Bytes) break;
            bytes += Take(ofObstacle.Bind(1, name).Bind(2, isGone ? left : 1), rows, -1, now);
        }
        var found = rows.Count - first;
        // One may be due by its key as well, where somebody has said so by hand.
        var ofKeys = rows.Take(first).Select(row => row.Row).ToHashSet();
        var waiting = rows.Skip(first).Where(row => !ofKeys.Contains(row.Row))
            .Select(row => row with { WaitsFor = HeldObstacle.Of(row.Event.Address, row.Event.Type) }).ToList();
        rows.RemoveRange(first, found);
        rows.AddRange(waiting);
        return bytes >= Budget.Bytes ? limit : found;
    }

    /// <summary>
    /// Takes rows until they have the limit of bytes, one at the least. Fresh ones have their own number; held ones,
    /// from another table, have theirs negated.
    /// </summary>
    private static long Take(Statement statement, List<OutboxRow> rows, int sign, long now)
    {
        long bytes = 0;
        while (statement.Step())
        {
            var address = statement.Text(6);
            var @event = new EncodedEvent(
                statement.Text(1)!, statement.Text(2)!, HeldKeys.KeyOf(address, statement.Text(3)), statement.Blob(4))
            {
                Address = address, OutboxWait = EncodedEvent.WaitOf(now - statement.Int64(7)),
            };
            rows.Add(new OutboxRow(sign * statement.Int64(0), (int)statement.Int64(5), @event));
            bytes += @event.Json.Length;
            if (bytes < Budget.Bytes) continue;
            statement.Reset();
            break;
        }
        return bytes;
    }

    private readonly Statement isKeyHeld = all.Add("SELECT 1 FROM courier_held_key WHERE partition_key = ?");

    public IReadOnlySet<string> HeldKeysAmong(IReadOnlyCollection<string> keys) =>
        keys.Where(key => isKeyHeld.Bind(1, key).Scalar() is not null).ToHashSet(StringComparer.Ordinal);
}
