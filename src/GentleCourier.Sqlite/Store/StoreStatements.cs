using GentleCourier.Engines;
using GentleCourier.Publishing;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What a store does on its own connection, one caller at a time.</summary>
internal sealed class StoreStatements(Prepared all, FileClock time) : IDisposable
{
    private const string HeldColumns = "event_id, type, partition_key, added, event";
    private const string IsFree =
        "(partition_key IS NULL OR partition_key NOT IN (SELECT partition_key FROM courier_held_key))";
    private const string HeldRow = "seq, event_id, type, partition_key, event, attempts, address, added";

    public ConfirmedStatements Brokers { get; } = new(all.Connection);

    public ClockStatements Clocks { get; } = new(all.Connection, time);

    public SqliteConnection Connection => all.Connection;

    private readonly Statement hasFresh = all.Add("SELECT 1 FROM courier_outbox LIMIT 1");

    public bool HasFresh => hasFresh.Scalar() is not null;

    // A new leader begins a new term, without the last one's error.
    private readonly Statement lead = all.Add("""
        UPDATE courier_relay
            SET until = ?2 + ?3, term = term + (relay IS NOT ?1), error = iif(relay IS ?1, error, NULL), relay = ?1
        WHERE relay IS NULL OR relay = ?1 OR until < ?2 RETURNING term
        """);

    /// <param name="relay">Who asks for the lead.</param>
    /// <param name="now">The file's time.</param>
    /// <param name="length">Of the lease.</param>
    /// <param name="clockAhead">How far the clock of whoever asks is ahead.</param>
    public long? Lead(string relay, long now, long length, long clockAhead) => InTransaction(() =>
    {
        Clocks.Say(relay, clockAhead, now, length);
        return lead.Bind(1, relay).Bind(2, now).Bind(3, length).Scalar();
    });

    private readonly Statement resign = all.Add("UPDATE courier_relay SET relay = NULL WHERE term = ?");

    public int Resign(long term, long now) => InTransaction(() =>
    {
        Clocks.Forget(term, now);
        return resign.Bind(1, term).Run();
    });

    private readonly Statement recordError = all.Add(
        "UPDATE courier_relay SET error = ?1 WHERE term = ?2 AND error IS NOT ?1");

    public int RecordError(long term, string? error) => recordError.BindPlain(1, error).Bind(2, term).Run();

    private readonly Statement holdsSome = all.Add("""
        SELECT 1 WHERE EXISTS (SELECT 1 FROM courier_held_key) OR EXISTS (SELECT 1 FROM courier_held_type)
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
    private readonly Statement dropTypes = all.Add("""
        DELETE FROM courier_held_type WHERE due <= ?1 AND NOT EXISTS (
            SELECT 1 FROM courier_outbox_held h WHERE h.waits_for = courier_held_type.type AND h.waits_for IS NOT NULL)
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
    public OutboxBatch ReadOutbox(int limit, long now)
    {
        if (holdsSome.Scalar() is null) return Read(fresh, limit, now);
        return InTransaction(() =>
        {
            dropKeys.Bind(1, now).Bind(2, limit).Run();
            dropTypes.Bind(1, now).Run();
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
    private readonly Statement dueTypes = all.Add(
        "SELECT type, freed FROM courier_held_type WHERE due <= ? ORDER BY freed, due LIMIT ?");
    private readonly Statement ofType = all.Add($"""
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
            UNION ALL SELECT min(due) FROM courier_held_type)
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
    /// Of types that are due the oldest event that waits for a route; of those that have one again, as many as a batch
    /// takes. Each was the first of its key when it was held, and still is.
    /// </summary>
    /// <returns>How many.</returns>
    private int TakeWaiting(List<OutboxRow> rows, int limit, long now)
    {
        var types = new List<(string Type, bool IsFreed)>();
        dueTypes.Bind(1, now).Bind(2, Math.Max(1, limit / 4));
        while (dueTypes.Step()) types.Add((dueTypes.Text(0)!, dueTypes.Int64(1) != 0));
        var (first, bytes) = (rows.Count, 0L);
        foreach (var (type, isFreed) in types)
        {
            var left = limit - (rows.Count - first);
            if (left == 0 || bytes >= Budget.Bytes) break;
            bytes += Take(ofType.Bind(1, type).Bind(2, isFreed ? left : 1), rows, -1, now);
        }
        var found = rows.Count - first;
        // One may be due by its key as well, where somebody has said so by hand.
        var ofKeys = rows.Take(first).Select(row => row.Row).ToHashSet();
        var waiting = rows.Skip(first).Where(row => !ofKeys.Contains(row.Row))
            .Select(row => row with { WaitsForRoute = true }).ToList();
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

    private readonly Statement isTerm = all.Add("SELECT 1 FROM courier_relay WHERE term = ? AND relay IS NOT NULL");
    private readonly Statement deleteFresh = all.Add("DELETE FROM courier_outbox WHERE seq = ?");
    private readonly Statement holdFresh = all.Add($"""
        INSERT INTO courier_outbox_held ({HeldColumns}, attempts, due, error, waits_for)
        SELECT {HeldColumns}, ?1, ?2, ?3, iif(?5, type, NULL) FROM courier_outbox WHERE seq = ?4
        """);
    private readonly Statement holdPart = all.Add("""
        INSERT INTO courier_outbox_held
            (event_id, type, added, event, partition_key, address, attempts, due, error)
        SELECT event_id, type, added, event, ?1, ?2, ?3, ?4, ?5 FROM courier_outbox WHERE seq = ?6
        UNION ALL
        SELECT event_id, type, added, event, ?1, ?2, ?3, ?4, ?5 FROM courier_outbox_held WHERE seq = -?6
        """);
    private readonly Statement deleteHeld = all.Add("DELETE FROM courier_outbox_held WHERE seq = ?");
    private readonly Statement holdAgain = all.Add("""
        UPDATE courier_outbox_held SET attempts = ?1, due = ?2, error = ?3, waits_for = iif(?5, type, NULL)
        WHERE seq = ?4
        """);
    private readonly Statement holdKey = all.Add(
        "INSERT OR REPLACE INTO courier_held_key (partition_key, due, flows) VALUES (?, ?, 0)");
    private readonly Statement wakeKey = all.Add(
        "UPDATE courier_held_key SET due = ? WHERE partition_key = ? AND due IS NULL");
    private readonly Statement dropKey = all.Add("""
        DELETE FROM courier_held_key WHERE partition_key = ?1 AND NOT EXISTS (
            SELECT 1 FROM courier_outbox_held h
            WHERE h.partition_key = ?1 AND h.partition_key IS NOT NULL AND h.due IS NOT NULL)
        """);
    private readonly Statement holdType = all.Add("""
        INSERT INTO courier_held_type (type, due, freed) VALUES (?1, ?2, 0)
        ON CONFLICT (type) DO UPDATE SET freed = 0, due = iif(freed OR ?3, excluded.due, due)
        """);
    private readonly Statement freeType = all.Add(
        "UPDATE courier_held_type SET freed = 1, due = ? WHERE type = ? AND NOT freed");
    private readonly Statement freeKey = all.Add(
        "UPDATE courier_held_key SET due = ?, flows = 1 WHERE partition_key = ?");

    public bool Mark(long term, OutboxMarks marks, long now) => InTransaction(() =>
    {
        var leads = isTerm.Bind(1, term).Scalar() is not null;
        Forget(marks.Forgotten, leads);
        if (!leads)
        {
            // What has been published is forgotten whoever leads: the next one's turn has come.
            foreach (var key in marks.TurnsOver) wakeKey.Bind(1, now).Bind(2, key).Run();
            return false;
        }
        if (marks.By is { } by) Brokers.Confirm(by);
        foreach (var row in marks.Held)
        {
            (row.Row < 0 ? holdAgain : holdFresh)
                .Bind(1, row.Attempts).Bind(2, Due(row.After)).BindPlain(3, row.Reason)
                .Bind(4, Math.Abs(row.Row)).Bind(5, row.WaitsForRoute ? 1 : 0).Run();
            if (row.Row > 0) deleteFresh.Bind(1, row.Row).Run();
        }
        foreach (var part in marks.Parts)
        {
            holdPart.Bind(1, part.Key).Bind(2, part.Address).Bind(3, part.Attempts).Bind(4, Due(part.After))
                .BindPlain(5, part.Reason).Bind(6, part.Row).Run();
        }
        foreach (var row in marks.Parts.Select(part => part.Row).Distinct())
            (row < 0 ? deleteHeld : deleteFresh).Bind(1, Math.Abs(row)).Run();
        foreach (var key in marks.Keys) holdKey.Bind(1, key.Key).Bind(2, Due(key.After)).Run();
        foreach (var key in marks.Freed)
        {
            if (dropKey.Bind(1, key).Run() == 0) freeKey.Bind(1, now).Bind(2, key).Run();
        }
        foreach (var type in marks.Types)
            holdType.Bind(1, type.Type).Bind(2, Due(type.After)).Bind(3, type.WasTried ? 1 : 0).Run();
        foreach (var type in marks.FreedTypes) freeType.Bind(1, now).Bind(2, type).Run();
        return true;

        long? Due(TimeSpan? after) => after is { } time ? now + (long)time.TotalMilliseconds : null;
    });

    private readonly Statement isKeyHeld = all.Add("SELECT 1 FROM courier_held_key WHERE partition_key = ?");

    public IReadOnlySet<string> HeldKeysAmong(IReadOnlyCollection<string> keys) =>
        keys.Where(key => isKeyHeld.Bind(1, key).Scalar() is not null).ToHashSet(StringComparer.Ordinal);

    private readonly Statement deleteFreshRange = all.Add("DELETE FROM courier_outbox WHERE seq BETWEEN ? AND ?");
    private readonly Statement forgetFresh = all.Add("DELETE FROM courier_outbox WHERE seq = ? AND event_id = ?");
    private readonly Statement forgetHeld = all.Add("DELETE FROM courier_outbox_held WHERE seq = ? AND event_id = ?");

    private void Forget(IReadOnlyList<OutboxRow> rows, bool leads)
    {
        // The common case: all were fresh, and no row lies between them that was not read; one statement does.
        if (leads && rows is [{ IsHeld: false } first, ..] && rows[^1].Row - first.Row + 1 == rows.Count)
        {
            deleteFreshRange.Bind(1, first.Row).Bind(2, rows[^1].Row).Run();
            return;
        }
        // Another leader may have emptied the table meanwhile, and its numbers have begun again: the event must be the
        // same.
        foreach (var row in rows)
            (row.IsHeld ? forgetHeld : forgetFresh).Bind(1, Math.Abs(row.Row)).Bind(2, row.Event.Id).Run();
    }

    private readonly Statement isInInbox = all.Add(InboxReader.IsThere);

    public bool[] LookIntoInbox(string queue, IReadOnlyList<EventKey> events) =>
        InboxReader.Look(isInInbox, queue, events);

    private readonly Statement countCopy = all.Add("""
        UPDATE courier_inbox SET copies = copies + 1, other = iif(hash <> ?4, ?4, other),
            other_at = iif(hash <> ?4, ?5, other_at)
        WHERE queue = ?1 AND source = ?2 AND event_id = ?3 RETURNING iif(hash <> ?4, hash, NULL)
        """);

    /// <summary>Counts copies of what was handled; tells what that was, where it had other data.</summary>
    public InboxAnswer[] CountCopies(string queue, IReadOnlyList<InboxEvent> events, bool[] handled, long now) =>
        InTransaction(() =>
        {
            var answers = new InboxAnswer[handled.Length];
            for (var i = 0; i < answers.Length; i++)
            {
                if (!handled[i]) continue;
                var (source, id, hash) = events[i];
                countCopy.Bind(1, queue).Bind(2, source).Bind(3, id).Bind(4, hash).Bind(5, now);
                answers[i] = new(true, countCopy.Scalar());
            }
            return answers;
        });

    private readonly Statement forget = all.Add(
        "DELETE FROM courier_inbox WHERE queue = ? AND source = ? AND event_id = ? AND handled < ?");
    private readonly Statement forgetting = all.Add("""
        INSERT INTO courier_store_chore (chore, until, before) VALUES (?1, 0, ?2)
        ON CONFLICT (chore) DO UPDATE SET before = max(coalesce(before, 0), excluded.before)
        """);

    /// <summary>Forgets what was handled before a time. That it may be forgotten is written down with it.</summary>
    public int Forget(Chore chore, IReadOnlyList<(string Queue, string Source, string Id)> handled, long before) =>
        InTransaction(() =>
        {
            forgetting.Bind(1, chore.Name).Bind(2, before).Run();
            return handled.Sum(
                h => forget.Bind(1, h.Queue).Bind(2, h.Source).Bind(3, h.Id).Bind(4, before).Run());
        });

    /// <summary>
    /// Runs a statement that removes a row by its key, where it is older than a time, for each of them.
    /// </summary>
    public int Remove(string sql, IEnumerable<string> keys, long before) => InTransaction(() =>
    {
        using var remove = new Statement(Connection, sql);
        return keys.Sum(key => remove.Bind(1, key).Bind(2, before).Run());
    });

    public void Dispose()
    {
        Brokers.Dispose();
        Clocks.Dispose();
        all.Dispose();
    }

    private readonly Statement dueLater = all.Add("""
        SELECT seq, at FROM (
            SELECT seq, due AS at FROM courier_outbox_later WHERE by_clock = 0 AND due <= ?1 ORDER BY due LIMIT ?3)
        UNION ALL
        SELECT seq, at FROM (
            SELECT seq, due - ?2 AS at FROM courier_outbox_later WHERE by_clock = 1 AND due <= ?1 + ?2
            ORDER BY due LIMIT ?3)
        ORDER BY at, seq LIMIT ?3
        """);
    private readonly Statement moveDue = all.Add("""
        INSERT INTO courier_outbox (event_id, type, partition_key, added, event)
        SELECT event_id, type, partition_key, ?2, event FROM courier_outbox_later WHERE seq = ?1
        """);
    private readonly Statement deleteDue = all.Add("DELETE FROM courier_outbox_later WHERE seq = ?");

    /// <summary>
    /// Moves what is due into the outbox, in the order in which it is, where the term is not over. It counts as added
    /// when it was due.
    /// </summary>
    public int MoveDue(long term, long now, int limit) => InTransaction(() =>
    {
        if (isTerm.Bind(1, term).Scalar() is null) return 0;
        // Nothing compares with what is unknown.
        long? ahead = ClockStatements.IsInDoubt(Connection) ? null : ClockStatements.AheadOf(Connection);
        var moving = new List<(long Row, long At)>();
        dueLater.Bind(1, now).Bind(2, ahead).Bind(3, limit);
        while (dueLater.Step()) moving.Add((dueLater.Int64(0), dueLater.Int64(1)));
        foreach (var (row, at) in moving)
        {
            moveDue.Bind(1, row).Bind(2, at).Run();
            deleteDue.Bind(1, row).Run();
        }
        return moving.Count;
    });

    /// <summary>Has the store go by the clock that most of its relays have, where the term is not over.</summary>
    public void SettleClock(long term, long now) => InTransaction(() =>
    {
        if (isTerm.Bind(1, term).Scalar() is not null) Clocks.Settle(now);
        return true;
    });

    public T InTransaction<T>(Func<SqliteConnection, T> write) => InTransaction(() => write(Connection));

    private T InTransaction<T>(Func<T> write)
    {
        SqliteFile.Execute(Connection, "BEGIN IMMEDIATE");
        var result = write();
        SqliteFile.Execute(Connection, "COMMIT");
        return result;
    }
}

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
