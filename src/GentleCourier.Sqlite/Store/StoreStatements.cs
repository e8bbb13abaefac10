using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What a store does on its own connection, one caller at a time.</summary>
internal sealed class StoreStatements : IDisposable
{
    private const string HeldColumns = "event_id, type, partition_key, added, event";

    private readonly List<Statement> all = [];
    private readonly Statement lead, resign, isTerm, recordError;
    private readonly Statement hasFresh, holdsKeys, fresh, due, nextDue;
    private readonly Statement deleteFresh, deleteFreshRange, deleteHeld;
    private readonly Statement holdFresh, holdAgain, holdKey, holdFollowers, deleteFollowers;
    private readonly Statement isInInbox, countCopy;

    public StoreStatements(SqliteConnection connection)
    {
        Connection = connection;

        // A new leader begins a new term, without the last one's error.
        lead = Prepare("""
            UPDATE courier_relay
                SET until = ?2 + ?3, term = term + (relay IS NOT ?1), error = iif(relay IS ?1, error, NULL), relay = ?1
            WHERE relay IS NULL OR relay = ?1 OR until < ?2 RETURNING term
            """);
        resign = Prepare("UPDATE courier_relay SET relay = NULL WHERE term = ?");
        isTerm = Prepare("SELECT 1 FROM courier_relay WHERE term = ? AND relay IS NOT NULL");
        recordError = Prepare("UPDATE courier_relay SET error = ?1 WHERE term = ?2 AND error IS NOT ?1");

        hasFresh = Prepare("SELECT 1 FROM courier_outbox LIMIT 1");
        holdsKeys = Prepare(
            "SELECT 1 FROM courier_outbox_held WHERE partition_key IS NOT NULL AND due IS NOT NULL LIMIT 1");
        fresh = Prepare("SELECT seq, event_id, type, partition_key, event FROM courier_outbox ORDER BY seq LIMIT ?");
        due = Prepare(
            "SELECT seq, event_id, type, partition_key, event, attempts FROM courier_outbox_held WHERE due <= ? ORDER "
            + "BY seq LIMIT ?");
        nextDue = Prepare("SELECT min(due) FROM courier_outbox_held");

        deleteFresh = Prepare("DELETE FROM courier_outbox WHERE seq = ?");
        deleteFreshRange = Prepare("DELETE FROM courier_outbox WHERE seq BETWEEN ? AND ?");
        deleteHeld = Prepare("DELETE FROM courier_outbox_held WHERE seq = ?");

        holdFresh = Prepare(
            $"INSERT INTO courier_outbox_held ({HeldColumns}, attempts, due, error) SELECT {HeldColumns}, 1, ?, ? FROM "
            + "courier_outbox WHERE seq = ?");
        holdAgain = Prepare("UPDATE courier_outbox_held SET attempts = attempts + 1, due = ?, error = ? WHERE seq = ?");
        // All that wait with one key are due together, so that they are read together and in order.
        holdKey = Prepare("UPDATE courier_outbox_held SET due = ? WHERE partition_key = ? AND due IS NOT NULL");
        holdFollowers = Prepare($"""
            INSERT INTO courier_outbox_held ({HeldColumns}, attempts, due, error)
            SELECT {HeldColumns}, 0,
                (SELECT h.due FROM courier_outbox_held h WHERE h.partition_key = o.partition_key AND h.due IS NOT NULL
                    LIMIT 1),
                   'waits behind an earlier event with its partition key'
            FROM (SELECT * FROM courier_outbox ORDER BY seq LIMIT ?) o
            WHERE partition_key IN (SELECT partition_key FROM courier_outbox_held WHERE partition_key IS NOT NULL
                AND due IS NOT NULL)
            ORDER BY seq
            """);
        deleteFollowers = Prepare("""
            DELETE FROM courier_outbox WHERE seq IN (
                SELECT seq FROM (SELECT seq, partition_key FROM courier_outbox ORDER BY seq LIMIT ?)
                WHERE partition_key IN (SELECT partition_key FROM courier_outbox_held WHERE partition_key IS NOT NULL
                    AND due IS NOT NULL))
            """);

        isInInbox = Prepare(InboxReader.IsThere);
        countCopy = Prepare(
            "UPDATE courier_inbox SET copies = copies + 1 WHERE queue = ? AND source = ? AND event_id = ?");
    }

    public SqliteConnection Connection { get; }

    public bool HasFresh => hasFresh.Scalar() is not null;

    public long? Lead(string relay, long now, long lease) =>
        InTransaction(() => lead.Bind(1, relay).Bind(2, now).Bind(3, lease).Scalar());

    public int Resign(long term) => resign.Bind(1, term).Run();

    public int RecordError(long term, string? error) => recordError.Bind(1, error).Bind(2, term).Run();

    /// <summary>
    /// Order: a fresh event must not pass an earlier one with its key that is held. Where a key is held, which is rare,
    /// its fresh events are moved behind it, in one transaction with the reading: none can slip in between.
    /// </summary>
    public OutboxBatch ReadOutbox(int limit, long now)
    {
        if (holdsKeys.Scalar() is null) return Read(limit, now);
        return InTransaction(() =>
        {
            holdFollowers.Bind(1, limit).Run();
            deleteFollowers.Bind(1, limit).Run();
            return Read(limit, now);
        });
    }

    private OutboxBatch Read(int limit, long now)
    {
        // Half of a batch at the most is for events that have failed before: however many there are, fresh ones get
        // through.
        var rows = new List<OutboxRow>();
        due.Bind(1, now).Bind(2, Math.Max(1, limit / 2));
        while (due.Step()) rows.Add(new OutboxRow(-due.Int64(0), (int)due.Int64(5), EventOf(due)));

        fresh.Bind(1, Math.Max(1, limit - rows.Count));
        while (fresh.Step()) rows.Add(new OutboxRow(fresh.Int64(0), 0, EventOf(fresh)));

        return new OutboxBatch(rows, nextDue.Scalar() is { } at ? TimeSpan.FromMilliseconds(at - now) : null);
    }

    public bool Mark(long term, IReadOnlyList<RelayMark> marks, long now) => InTransaction(() =>
    {
        if (isTerm.Bind(1, term).Scalar() is null) return false;
        if (TakenWithoutGaps(marks))
        {
            deleteFreshRange.Bind(1, marks[0].Row.Row).Bind(2, marks[^1].Row.Row).Run();
            return true;
        }
        foreach (var mark in marks) Mark(mark, now);
        return true;
    });

    public bool[] LookIntoInbox(string queue, IReadOnlyList<EventKey> events) =>
        InboxReader.Look(isInInbox, queue, events);

    public bool CountCopies(string queue, IReadOnlyList<EventKey> events, bool[] handled) => InTransaction(() =>
    {
        for (var i = 0; i < handled.Length; i++)
            if (handled[i]) countCopy.Bind(1, queue).Bind(2, events[i].Source).Bind(3, events[i].Id).Run();
        return true;
    });

    public void Dispose()
    {
        all.ForEach(statement => statement.Dispose());
        Connection.Dispose();
    }

    // Fresh rows have their own number; held ones, from another table, have theirs negated.
    private void Mark(RelayMark mark, long now)
    {
        var (row, isHeld) = (Math.Abs(mark.Row.Row), mark.Row.Row < 0);
        if (mark.Result.Fate == PublishFate.Taken)
        {
            (isHeld ? deleteHeld : deleteFresh).Bind(1, row).Run();
            return;
        }

        var again = mark.Result.Fate == PublishFate.Deferred ? now + (long)mark.RetryAfter.TotalMilliseconds
            : (long?)null;
        (isHeld ? holdAgain : holdFresh).Bind(1, again).Bind(2, mark.Result.Reason).Bind(3, row).Run();
        if (!isHeld) deleteFresh.Bind(1, row).Run();
        if (again is not null && mark.Row.Event.PartitionKey is { } key) holdKey.Bind(1, again).Bind(2, key).Run();
    }

    /// <summary>
    /// The common case: all were fresh and are taken, and no row lies between them that was not read; one statement
    /// does.
    /// </summary>
    private static bool TakenWithoutGaps(IReadOnlyList<RelayMark> marks)
    {
        var first = marks[0].Row.Row;
        if (first < 0 || marks[^1].Row.Row - first + 1 != marks.Count) return false;
        foreach (var mark in marks)
            if (mark.Result.Fate != PublishFate.Taken) return false;
        return true;
    }

    private T InTransaction<T>(Func<T> write)
    {
        SqliteFile.Execute(Connection, "BEGIN IMMEDIATE");
        var result = write();
        SqliteFile.Execute(Connection, "COMMIT");
        return result;
    }

    private static EncodedEvent EventOf(Statement row) => new(row.Text(1)!, row.Text(2)!, row.Text(3), row.Blob(4));

    private Statement Prepare(string sql)
    {
        var statement = new Statement(Connection, sql);
        all.Add(statement);
        return statement;
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
