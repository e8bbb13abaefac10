using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What a store does on its own connection, one caller at a time.</summary>
internal sealed class StoreStatements(Prepared all, FileClock time) : IDisposable
{
    public ClockStatements Clocks { get; } = new(all.Connection, time);

    public OutboxStatements Outbox { get; } = new(all);

    public MarkStatements Marks { get; } = new(all);

    public ConfirmedStatements Brokers => Marks.Brokers;

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
    public long? Lead(string relay, long now, long length, long clockAhead) => all.InTransaction(() =>
    {
        Clocks.Say(relay, clockAhead, now, length);
        return lead.Bind(1, relay).Bind(2, now).Bind(3, length).Scalar();
    });

    private readonly Statement resign = all.Add("UPDATE courier_relay SET relay = NULL WHERE term = ?");

    public int Resign(long term, long now) => all.InTransaction(() =>
    {
        Clocks.Forget(term, now);
        return resign.Bind(1, term).Run();
    });

    private readonly Statement recordError = all.Add(
        "UPDATE courier_relay SET error = ?1 WHERE term = ?2 AND error IS NOT ?1");

    public int RecordError(long term, string? error) => recordError.BindPlain(1, error).Bind(2, term).Run();

    private readonly Statement isInInbox = all.Add(InboxReader.IsThere);

    public bool[] LookIntoInbox(InboxOrigins origins, string queue, IReadOnlyList<EventKey> events) =>
        InboxReader.Look(isInInbox, origins, queue, events);

    private readonly Statement countCopy = all.Add("""
        UPDATE courier_inbox SET copies = coalesce(copies, 1) + 1, other = iif(hash <> ?3, ?3, other),
            other_at = iif(hash <> ?3, ?4, other_at)
        WHERE origin = ?1 AND id = ?2 RETURNING iif(hash <> ?3, hash, NULL)
        """);

    /// <summary>Counts copies of what was handled; tells what that was, where it had other data.</summary>
    public InboxAnswer[] CountCopies(InboxKey[] keys, IReadOnlyList<InboxEvent> events, bool[] handled, long now) =>
        all.InTransaction(() =>
        {
            var answers = new InboxAnswer[handled.Length];
            for (var i = 0; i < answers.Length; i++)
            {
                if (!handled[i]) continue;
                countCopy.Bind(1, keys[i]).Bind(3, events[i].Hash).Bind(4, now);
                answers[i] = new(true, (int?)countCopy.Scalar());
            }
            return answers;
        });

    private readonly Statement forget = all.Add(
        "DELETE FROM courier_inbox WHERE origin = ? AND id = ? AND handled < ?");
    private readonly Statement forgetting = all.Add("""
        INSERT INTO courier_store_chore (chore, until, before) VALUES (?1, 0, ?2)
        ON CONFLICT (chore) DO UPDATE SET before = max(coalesce(before, 0), excluded.before)
        """);

    /// <summary>Forgets what was handled before a time. That it may be forgotten is written down with it.</summary>
    public int Forget(Chore chore, IReadOnlyList<InboxKey> handled, long before) =>
        all.InTransaction(() =>
        {
            forgetting.Bind(1, chore.Name).Bind(2, before).Run();
            return handled.Sum(key => forget.Bind(1, key).Bind(3, before).Run());
        });

    /// <summary>
    /// Runs a statement that removes a row by its key, where it is older than a time, for each of them.
    /// </summary>
    public int Remove(string sql, IEnumerable<long> keys, long before) => all.InTransaction(() =>
    {
        using var remove = Statement.On(Connection, sql);
        return keys.Sum(key => remove.Bind(1, key).Bind(2, before).Run());
    });

    public void Dispose()
    {
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
    public int MoveDue(long term, long now, int limit) => all.InTransaction(() =>
    {
        if (!Marks.IsTerm(term)) return 0;
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
    public void SettleClock(long term, long now) => all.InTransaction(() =>
    {
        if (Marks.IsTerm(term)) Clocks.Settle(now);
        return true;
    });

    public T InTransaction<T>(Func<SqliteConnection, T> write) => all.InTransaction(() => write(Connection));
}
