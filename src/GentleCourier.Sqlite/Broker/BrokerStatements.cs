using System.Globalization;
using GentleCourier.Engines;
using GentleCourier.Tables;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What a broker writes, statement by statement; used inside the writer's transaction only.</summary>
internal sealed class BrokerStatements(Prepared all) : IDisposable
{
    public SqliteConnection Connection => all.Connection;

    /// <summary>What is handed over, and comes back.</summary>
    public DeliveryStatements Deliveries { get; } = new(all);

    private readonly Statement topologyVersion = all.Add("SELECT version FROM courier_topology");
    private readonly Statement generation = all.Add("SELECT generation FROM courier_topology");
    private readonly Statement lastStamp = all.Add(
        "SELECT term, number FROM courier_stamp WHERE store = ?");
    private readonly Statement firstStamp = all.Add("INSERT OR IGNORE INTO courier_stamp VALUES (?, 0, 0)");
    private readonly Statement stamp = all.Add(
        "UPDATE courier_stamp SET term = ?4, number = ?5 WHERE store = ?1 AND term = ?2 AND number = ?3");
    private readonly Statement routes = all.Add("""
        SELECT r.type, r.queue, q.in_key_order FROM courier_route r JOIN courier_queue q ON q.id = r.queue
        ORDER BY r.type
        """);
    private readonly Statement addCopy = all.Add(
        "INSERT INTO courier_copy (arrived, event, history, identity, waited) VALUES (?, ?, ?, ?, ?)");
    private readonly Statement addPlace = all.Add(
        "INSERT INTO courier_place (queue, due, copy, key) VALUES (?, ?, ?, ?)");
    private readonly Statement addTried = all.Add("""
        INSERT INTO courier_place (queue, due, copy, key, attempts, first_attempt, error, uncounted)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?)
        """);
    private readonly Statement isHere = all.Add("SELECT 1 FROM courier_copy WHERE identity = ?");
    private readonly Statement letterOf = all.Add("SELECT id FROM courier_dead_letter WHERE identity = ?");
    private readonly Statement elsewhere = all.Add(
        "SELECT waiting, debt FROM courier_elsewhere WHERE queue = ?");
    private readonly Statement setElsewhere = all.Add(
        "INSERT OR REPLACE INTO courier_elsewhere (queue, waiting, debt) VALUES (?, ?, ?)");
    private readonly Statement addLetter = all.Add("""
        INSERT INTO courier_dead_letter
            (queue, reason, exception, message, stack, attempts, worker, arrived, first_attempt, set_aside, event,
            identity)
        VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?8, ?9, ?10, ?11)
        """);
    private readonly Statement setAside = all.Add("""
        INSERT INTO courier_dead_letter
            (queue, reason, exception, message, stack, attempts, worker, arrived, first_attempt, set_aside, event,
            history, identity)
        SELECT l.queue, ?, ?, ?, ?, l.attempts, l.worker, c.arrived, l.first_attempt, ?, c.event, c.history, ?
        FROM courier_lease l JOIN courier_copy c ON c.id = l.copy WHERE l.copy = ? AND l.number = ?
        """);
    private readonly Statement wasSentBack = all.Add("""
        SELECT 1 FROM courier_lease l JOIN courier_copy c ON c.id = l.copy
        WHERE l.copy = ? AND l.number = ? AND c.history IS NOT NULL
        """);

    private readonly Statement takeLetter = all.Add(
        "DELETE FROM courier_dead_letter WHERE id = ? RETURNING queue, identity");
    private readonly Statement oldLetters = all.Add("""
        SELECT id FROM (SELECT id, set_aside FROM courier_dead_letter WHERE queue = ?1 ORDER BY id LIMIT ?3)
        WHERE set_aside < ?2
        """);

    private readonly Statement beat = all.Add("""
        INSERT INTO courier_worker (id, seen, until, report) VALUES (?1, ?2, ?3, ?4)
        ON CONFLICT (id) DO UPDATE SET seen = excluded.seen, until = excluded.until, report = excluded.report
        """);
    private readonly Statement leave = all.Add("DELETE FROM courier_worker WHERE id = ?1 OR until < ?2");
    private readonly Statement remember = all.Add("""
        INSERT INTO courier_history (queue, place, at, came, accepted, failed, set_aside)
        SELECT id, ?1 / ?2 % ?3, ?1, came, accepted, failed, set_aside FROM courier_queue WHERE true
        ON CONFLICT (queue, place) DO UPDATE SET at = excluded.at, came = excluded.came, accepted = excluded.accepted,
            failed = excluded.failed, set_aside = excluded.set_aside
            WHERE courier_history.at / ?2 <> excluded.at / ?2
        """);

    /// <summary>A worker lives; those that are long gone are forgotten, and the counts are remembered.</summary>
    public void Beat(string id, string report, long now, long until)
    {
        beat.Bind(1, id).Bind(2, now).Bind(3, until).Bind(4, report).Run();
        Leave("", now);
        remember.Bind(1, now).Bind(2, (long)Ring.Every.TotalMilliseconds).Bind(3, Ring.Places).Run();
    }

    /// <summary>A worker ends.</summary>
    public void Leave(string id, long now) => leave.Bind(1, id).Bind(2, now).Run();

    public long TopologyVersion => topologyVersion.Scalar() ?? 0;

    /// <summary>Which broker this is.</summary>
    public string Generation
    {
        get
        {
            generation.Step();
            var read = generation.Text(0)!;
            generation.Reset();
            return read;
        }
    }

    /// <summary>The last stamp of a store; where it has none, one that comes before all others is put there.</summary>
    public Stamp LastStamp(string store)
    {
        firstStamp.Bind(1, store).Run();
        lastStamp.Bind(1, store).Step();
        var last = new Stamp(lastStamp.Int64(0), lastStamp.Int64(1));
        lastStamp.Reset();
        return last;
    }

    /// <summary>Puts a stamp in the place of another; not where that is not there.</summary>
    public bool Stamp(Stamping stamping)
    {
        var (store, _, before, with) = stamping;
        return stamp.Bind(1, store).Bind(2, before.Term).Bind(3, before.Number).Bind(4, with.Term)
            .Bind(5, with.Number).Run() == 1;
    }

    public (Dictionary<string, long[]> Queues, HashSet<long> InKeyOrder) ReadRoutes()
    {
        var found = new List<(string Type, long Queue)>();
        var inKeyOrder = new HashSet<long>();
        while (routes.Step())
        {
            found.Add((routes.Text(0)!, routes.Int64(1)));
            if (routes.Int64(2) != 0) inKeyOrder.Add(routes.Int64(1));
        }
        return (found.GroupBy(r => r.Type, r => r.Queue, StringComparer.Ordinal)
            .ToDictionary(g => g.Key, g => g.ToArray(), StringComparer.Ordinal), inKeyOrder);
    }

    /// <param name="queue">The queue.</param>
    /// <param name="now">The time.</param>
    /// <param name="json">The event.</param>
    /// <param name="inKeyOrder">Whether the queue is in key order.</param>
    /// <param name="key">The event's partition key.</param>
    /// <param name="history">What happened before it was sent back, if it was.</param>
    /// <param name="identity">What it is known by, if it was taken over.</param>
    /// <param name="waited">For how long it had waited in an outbox, if that is worth telling.</param>
    public void AddCopy(
        long queue, long now, ReadOnlySpan<byte> json, bool inKeyOrder, string? key, string? history = null,
        string? identity = null, TimeSpan? waited = null)
    {
        addCopy.Bind(1, now).Bind(2, json).Bind(3, history).Bind(4, identity)
            .Bind(5, (long?)waited?.TotalMilliseconds).Run();
        var copy = addCopy.LastRowId;
        addPlace.Bind(1, queue).Bind(2, now).Bind(3, copy)
            .Bind(4, inKeyOrder ? key ?? KeyOf(copy) : null).Run();
    }

    /// <summary>Adds a copy that is taken over, whatever has become of it so far.</summary>
    public void AddTakenOver(long queue, long now, TakenOver taken, string identity)
    {
        addCopy.Bind(1, now).Bind(2, taken.Json.Span).Bind(3, (string?)null).Bind(4, identity)
            .Bind(5, (long?)null).Run();
        var copy = addCopy.LastRowId;
        var due = now + (long)(taken.Again?.Delay ?? TimeSpan.Zero).TotalMilliseconds;
        addTried.Bind(1, queue).Bind(2, due).Bind(3, copy).Bind(4, Deliveries.IsInKeyOrder(queue) ? KeyOf(copy) : null)
            .Bind(5, taken.Attempts).Bind(6, FirstTried(taken, now)).BindPlain(7, taken.Again?.Error)
            .Bind(8, taken.Uncounted).Run();
    }

    /// <summary>Whether an event that was taken over waits, or is in hand.</summary>
    public bool IsHere(string identity) => isHere.Bind(1, identity).Scalar() is not null;

    /// <summary>The dead letter that an event is which was taken over; null where it is none.</summary>
    public long? LetterOf(string identity) => letterOf.Bind(1, identity).Scalar();

    /// <summary>Sets an event aside that was never a copy here.</summary>
    public string AddLetter(long queue, long now, TakenOver taken, string worker, string identity)
    {
        var rejected = taken.Rejected!;
        addLetter.Bind(1, queue).BindPlain(2, rejected.Reason).BindPlain(3, rejected.Failure?.Exception)
            .BindPlain(4, rejected.Failure?.Message).BindPlain(5, rejected.Failure?.Stack).Bind(6, taken.Attempts)
            .Bind(7, worker).Bind(8, FirstTried(taken, now) ?? now).Bind(9, now).Bind(10, taken.Json.Span)
            .Bind(11, identity).Run();
        return addLetter.LastRowId.ToString(CultureInfo.InvariantCulture);
    }

    /// <summary>
    /// Counts what was handled elsewhere. What has come is what has gone, and what waits more than before: by looks of
    /// several at different moments, that may be less than nothing, which the next ones have to make up for.
    /// </summary>
    public void CountElsewhere(long queue, long accepted, long? waiting)
    {
        var (before, debt) = elsewhere.Bind(1, queue).Step() ? (elsewhere.Int64(0), elsewhere.Int64(1)) : (0, 0);
        elsewhere.Reset();
        var came = debt + accepted + ((waiting ?? before) - before);
        setElsewhere.Bind(1, queue).Bind(2, waiting ?? before).Bind(3, Math.Min(0, came)).Run();
        Deliveries.Count(queue, came: Math.Max(0, came), accepted: accepted);
    }

    private static long? FirstTried(TakenOver taken, long now) =>
        taken.TriedFor is { } time ? now - (long)time.TotalMilliseconds : null;

    /// <summary>In key order each copy has a key: without one of its event's, one that no other has.</summary>
    public static string KeyOf(long copy) => $"\u0001{copy:D20}";

    /// <summary>Adds to what was counted what is missing there.</summary>
    public int Mend(IReadOnlyList<Difference> missing)
    {
        foreach (var queue in missing)
            Deliveries.Count(queue.Queue, queue.Waiting, queue.InHand, lettersGone: -queue.DeadLetters);
        return missing.Count;
    }

    /// <summary>
    /// Sets a copy aside. Where one that says the same is a dead letter already, it is that; but one that was sent back
    /// is a letter of its own, and stands for that, too.
    /// </summary>
    /// <returns>Whether it was held; and the dead letter that it has become, if it is one of its own.</returns>
    public (bool Took, string? Letter) SetAside(long queue, LeasedCopy copy, Outcome.Rejected outcome, long now)
    {
        var identity = $"{queue}:{EventIdentity.Of(copy.Json)}";
        if (LetterOf(identity) is { } before)
        {
            if (wasSentBack.Bind(1, copy.Copy).Bind(2, copy.Number).Scalar() is null)
                return (Deliveries.Accept(copy), null);
            Discard(before);
            Deliveries.Count(queue, lettersGone: 1);
        }
        setAside.BindPlain(1, outcome.Reason).BindPlain(2, outcome.Failure?.Exception)
            .BindPlain(3, outcome.Failure?.Message).BindPlain(4, outcome.Failure?.Stack).Bind(5, now).Bind(6, identity);
        if (setAside.Bind(7, copy.Copy).Bind(8, copy.Number).Run() != 1) return (false, null);
        var letter = setAside.LastRowId.ToString(CultureInfo.InvariantCulture);
        return (Deliveries.Accept(copy), letter);
    }

    /// <summary>
    /// Removes a dead letter; the queue that it was of, and what it is known by, or null where it is gone.
    /// </summary>
    public (long Queue, string? Identity)? TakeLetter(string id)
    {
        if (!LetterTable.TryParse(id, out var number) || !takeLetter.Bind(1, number).Step()) return null;
        var taken = (takeLetter.Int64(0), takeLetter.Text(1));
        takeLetter.Reset();
        return taken;
    }

    /// <summary>Of the first dead letters of a queue those that were set aside before a time.</summary>
    public List<long> OldLetters(long queue, long before, int limit)
    {
        var old = new List<long>();
        oldLetters.Bind(1, queue).Bind(2, before).Bind(3, limit);
        while (oldLetters.Step()) old.Add(oldLetters.Int64(0));
        return old;
    }

    /// <summary>Removes a dead letter.</summary>
    public void Discard(long letter) => takeLetter.Bind(1, letter).Run();

    public void Dispose() => all.Dispose();
}
