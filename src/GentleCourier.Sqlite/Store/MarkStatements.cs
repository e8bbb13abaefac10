using GentleCourier.Engines;

namespace GentleCourier.Sqlite;

/// <summary>Marks in an outbox what has become of a batch.</summary>
internal sealed class MarkStatements(Prepared all)
{
    private const string HeldColumns = "event_id, type, partition_key, added, event";

    public ConfirmedStatements Brokers { get; } = new(all);

    private readonly Statement isTerm = all.Add("SELECT 1 FROM courier_relay WHERE term = ? AND relay IS NOT NULL");

    public bool IsTerm(long term) => isTerm.Bind(1, term).Scalar() is not null;

    private readonly Statement deleteFresh = all.Add("DELETE FROM courier_outbox WHERE seq = ?");
    private readonly Statement holdFresh = all.Add($"""
        INSERT INTO courier_outbox_held ({HeldColumns}, attempts, due, error, waits_for)
        SELECT {HeldColumns}, ?1, ?2, ?3, ?5 FROM courier_outbox WHERE seq = ?4
        """);
    private readonly Statement holdPart = all.Add("""
        INSERT INTO courier_outbox_held
            (event_id, type, added, event, partition_key, address, attempts, due, error, waits_for)
        SELECT event_id, type, added, event, ?1, ?2, ?3, ?4, ?5, ?7 FROM courier_outbox WHERE seq = ?6
        UNION ALL
        SELECT event_id, type, added, event, ?1, ?2, ?3, ?4, ?5, ?7 FROM courier_outbox_held WHERE seq = -?6
        """);
    private readonly Statement deleteHeld = all.Add("DELETE FROM courier_outbox_held WHERE seq = ?");
    private readonly Statement holdAgain = all.Add("""
        UPDATE courier_outbox_held SET attempts = ?1, due = ?2, error = ?3, waits_for = ?5
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
    private readonly Statement holdObstacle = all.Add("""
        INSERT INTO courier_held_obstacle (waits_for, due, freed) VALUES (?1, ?2, 0)
        ON CONFLICT (waits_for) DO UPDATE SET freed = 0, due = iif(freed OR ?3, excluded.due, due)
        """);
    private readonly Statement removeObstacle = all.Add(
        "UPDATE courier_held_obstacle SET freed = 1, due = ? WHERE waits_for = ? AND NOT freed");
    private readonly Statement freeKey = all.Add(
        "UPDATE courier_held_key SET due = ?, flows = 1 WHERE partition_key = ?");

    public bool Mark(long term, OutboxMarks marks, long now) => all.InTransaction(() =>
    {
        var leads = IsTerm(term);
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
                .Bind(4, Math.Abs(row.Row)).Bind(5, row.WaitsFor).Run();
            if (row.Row > 0) deleteFresh.Bind(1, row.Row).Run();
        }
        foreach (var part in marks.Parts)
        {
            holdPart.Bind(1, part.Key).Bind(2, part.Address).Bind(3, part.Attempts).Bind(4, Due(part.After))
                .BindPlain(5, part.Reason).Bind(6, part.Row).Bind(7, part.WaitsFor).Run();
        }
        foreach (var row in marks.Parts.Select(part => part.Row).Distinct())
            (row < 0 ? deleteHeld : deleteFresh).Bind(1, Math.Abs(row)).Run();
        foreach (var key in marks.Keys) holdKey.Bind(1, key.Key).Bind(2, Due(key.After)).Run();
        foreach (var key in marks.Freed)
        {
            if (dropKey.Bind(1, key).Run() == 0) freeKey.Bind(1, now).Bind(2, key).Run();
        }
        foreach (var (name, after, wasTried) in marks.Obstacles)
            holdObstacle.Bind(1, name).Bind(2, Due(after)).Bind(3, wasTried ? 1 : 0).Run();
        foreach (var name in marks.Removed) removeObstacle.Bind(1, now).Bind(2, name).Run();
        return true;

        long? Due(TimeSpan? after) => after is { } time ? now + (long)time.TotalMilliseconds : null;
    });

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
}
