using System.Globalization;
using GentleCourier.Engines;
using GentleCourier.Tables;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What a broker writes, statement by statement; used inside the writer's transaction only.</summary>
internal sealed class BrokerStatements(SqliteConnection connection) : IDisposable
{
    public SqliteConnection Connection => connection;

    private readonly Statement topologyVersion = new(connection, "SELECT version FROM courier_topology");
    private readonly Statement generation = new(connection, "SELECT generation FROM courier_topology");
    private readonly Statement lastStamp = new(connection,
        "SELECT term, number FROM courier_stamp WHERE store = ?");
    private readonly Statement firstStamp = new(connection, "INSERT OR IGNORE INTO courier_stamp VALUES (?, 0, 0)");
    private readonly Statement stamp = new(connection,
        "UPDATE courier_stamp SET term = ?4, number = ?5 WHERE store = ?1 AND term = ?2 AND number = ?3");
    private readonly Statement routes = new(connection, """
        SELECT r.type, r.queue, q.in_key_order FROM courier_route r JOIN courier_queue q ON q.id = r.queue
        ORDER BY r.type
        """);
    private readonly Statement addCopy = new(
        connection, "INSERT INTO courier_copy (arrived, event, history, identity, waited) VALUES (?, ?, ?, ?, ?)");
    private readonly Statement addPlace = new(
        connection, "INSERT INTO courier_place (queue, due, copy, key) VALUES (?, ?, ?, ?)");
    private readonly Statement addTried = new(connection, """
        INSERT INTO courier_place (queue, due, copy, key, attempts, first_attempt, error) VALUES (?, ?, ?, ?, ?, ?, ?)
        """);
    private readonly Statement isHere = new(connection, "SELECT 1 FROM courier_copy WHERE identity = ?");
    private readonly Statement letterOf = new(connection, "SELECT id FROM courier_dead_letter WHERE identity = ?");
    private readonly Statement elsewhere = new(
        connection, "SELECT waiting, debt FROM courier_elsewhere WHERE queue = ?");
    private readonly Statement setElsewhere = new(
        connection, "INSERT OR REPLACE INTO courier_elsewhere (queue, waiting, debt) VALUES (?, ?, ?)");
    private readonly Statement addLetter = new(connection, """
        INSERT INTO courier_dead_letter
            (queue, reason, exception, message, stack, attempts, worker, arrived, first_attempt, set_aside, event,
            identity)
        VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?8, ?9, ?10, ?11)
        """);
    private readonly Statement count = new(connection, """
        UPDATE courier_queue SET waiting = waiting + ?1, in_hand = in_hand + ?2, came = came + ?3,
            accepted = accepted + ?4, failed = failed + ?5, set_aside = set_aside + ?6, dead = dead + ?6 - ?7
            WHERE id = ?8
        """);

    // The first n places of a queue are those up to the nth, so three statements hand over any number of events.
    private readonly Statement next = new(connection, """
        SELECT p.due, p.copy, p.attempts + 1, p.abandoned, c.event, c.id, p.key, p.first_attempt, c.arrived, c.waited
        FROM courier_place p LEFT JOIN courier_copy c ON c.id = p.copy
        WHERE p.queue = ? AND p.due <= ? ORDER BY p.due, p.copy LIMIT ?
        """);
    private readonly Statement lease = new(connection, """
        INSERT INTO courier_lease (copy, queue, number, until, attempts, abandoned, first_attempt, worker, error)
        SELECT copy, queue, ?1, ?2, attempts + 1, abandoned, coalesce(first_attempt, ?3), ?4, error
        FROM courier_place WHERE queue = ?5 AND (due, copy) <= (?6, ?7)
        """);

    // In key order only the first copy of each key may be handed over: one by one, behind the key of the last time.
    private readonly Statement isInKeyOrder = new(
        connection, "SELECT in_key_order FROM courier_queue WHERE id = ?");
    private readonly Statement nextInKeyOrder = new(connection, $"""
        {KeysWaiting}
        SELECT p.due, p.copy, p.attempts + 1, p.abandoned, c.event, c.id, p.key, p.first_attempt, c.arrived, c.waited
        {FirstOfKeys} LIMIT ?4
        """);
    private readonly Statement leaseOne = new(connection, """
        INSERT INTO courier_lease (copy, queue, number, until, attempts, abandoned, first_attempt, worker, error, key)
        SELECT copy, queue, ?1, ?2, attempts + 1, abandoned, coalesce(first_attempt, ?3), ?4, error, key
        FROM courier_place WHERE queue = ?5 AND due = ?6 AND copy = ?7
        """);
    private readonly Statement leavePlace = new(
        connection, "DELETE FROM courier_place WHERE queue = ? AND due = ? AND copy = ?");

    /// <summary>
    /// The keys of queue <c>?1</c> of which copies wait, behind <c>?3</c>: one after another by the index.
    /// </summary>
    public const string KeysWaiting = """
        WITH RECURSIVE keys (key) AS (
            SELECT min(key) FROM courier_place WHERE queue = ?1 AND key > ?3
            UNION ALL
            SELECT (SELECT min(p.key) FROM courier_place p WHERE p.queue = ?1 AND p.key > keys.key) FROM keys
            WHERE keys.key IS NOT NULL)
        """;

    /// <summary>
    /// The first copy of each key, due by <c>?2</c>, where none of its key is in hand. The order of the join lets it
    /// end as soon as there are enough.
    /// </summary>
    public const string FirstOfKeys = """
        FROM keys CROSS JOIN courier_place p ON p.queue = ?1 AND p.key = keys.key AND p.copy = (
                SELECT min(f.copy) FROM courier_place f WHERE f.queue = ?1 AND f.key = keys.key)
            LEFT JOIN courier_copy c ON c.id = p.copy
        WHERE keys.key IS NOT NULL AND p.due <= ?2
            AND NOT EXISTS (SELECT 1 FROM courier_lease l WHERE l.queue = ?1 AND l.key = keys.key)
        """;
    private readonly Statement leavePlaces = new(
        connection, "DELETE FROM courier_place WHERE queue = ? AND (due, copy) <= (?, ?)");

    private readonly Statement endLease = new(connection, "DELETE FROM courier_lease WHERE copy = ? AND number = ?");
    private readonly Statement renew = new(
        connection, "UPDATE courier_lease SET until = ? WHERE copy = ? AND number = ?");
    private readonly Statement deleteCopy = new(connection, "DELETE FROM courier_copy WHERE id = ?");
    private readonly Statement release = new(connection, """
        INSERT INTO courier_place (queue, due, copy, attempts, abandoned, first_attempt, error, key)
        SELECT l.queue, min(c.arrived, ?), l.copy, l.attempts - 1, l.abandoned,
            iif(l.attempts > 1 OR l.error IS NOT NULL, l.first_attempt, NULL), l.error, l.key
        FROM courier_lease l JOIN courier_copy c ON c.id = l.copy WHERE l.copy = ? AND l.number = ?
        """);
    private readonly Statement retry = new(connection, """
        INSERT INTO courier_place (queue, due, copy, attempts, first_attempt, error, key)
        SELECT queue, ?, copy, attempts - ?, first_attempt, ?, key FROM courier_lease WHERE copy = ? AND number = ?
        """);
    private readonly Statement setAside = new(connection, """
        INSERT INTO courier_dead_letter
            (queue, reason, exception, message, stack, attempts, worker, arrived, first_attempt, set_aside, event,
            history, identity)
        SELECT l.queue, ?, ?, ?, ?, l.attempts, l.worker, c.arrived, l.first_attempt, ?, c.event, c.history, ?
        FROM courier_lease l JOIN courier_copy c ON c.id = l.copy WHERE l.copy = ? AND l.number = ?
        """);
    private readonly Statement wasSentBack = new(connection, """
        SELECT 1 FROM courier_lease l JOIN courier_copy c ON c.id = l.copy
        WHERE l.copy = ? AND l.number = ? AND c.history IS NOT NULL
        """);

    private readonly Statement takeLetter = new(
        connection, "DELETE FROM courier_dead_letter WHERE id = ? RETURNING queue, identity");
    private readonly Statement oldLetters = new(connection, """
        SELECT id FROM (SELECT id, set_aside FROM courier_dead_letter WHERE queue = ?1 ORDER BY id LIMIT ?3)
        WHERE set_aside < ?2
        """);

    private readonly Statement expiredQueues = new(
        connection, "SELECT queue, count(*) FROM courier_lease WHERE until <= ? GROUP BY queue");
    private readonly Statement returnExpired = new(connection, """
        INSERT INTO courier_place (queue, due, copy, attempts, abandoned, first_attempt, error, key)
        SELECT l.queue, min(c.arrived, ?1), l.copy, l.attempts, l.abandoned + 1, l.first_attempt,
            'the lease of ' || l.worker || ' ran out', l.key
        FROM courier_lease l JOIN courier_copy c ON c.id = l.copy WHERE l.until <= ?1
        """);
    private readonly Statement endExpired = new(connection, "DELETE FROM courier_lease WHERE until <= ?");

    private readonly Statement beat = new(connection, """
        INSERT INTO courier_worker (id, seen, until, report) VALUES (?1, ?2, ?3, ?4)
        ON CONFLICT (id) DO UPDATE SET seen = excluded.seen, until = excluded.until, report = excluded.report
        """);
    private readonly Statement leave = new(connection, "DELETE FROM courier_worker WHERE id = ?1 OR until < ?2");
    private readonly Statement remember = new(connection, """
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
        addTried.Bind(1, queue).Bind(2, due).Bind(3, copy).Bind(4, IsInKeyOrder(queue) ? KeyOf(copy) : null)
            .Bind(5, taken.Attempts).Bind(6, FirstTried(taken, now)).BindPlain(7, taken.Again?.Error).Run();
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
        Count(queue, came: Math.Max(0, came), accepted: accepted);
    }

    private static long? FirstTried(TakenOver taken, long now) =>
        taken.TriedFor is { } time ? now - (long)time.TotalMilliseconds : null;

    /// <summary>In key order each copy has a key: without one of its event's, one that no other has.</summary>
    public static string KeyOf(long copy) => $"\u0001{copy:D20}";

    public void Count(long queue, long waiting = 0, long inHand = 0, long came = 0, long accepted = 0, long failed = 0,
        long setAside = 0, long lettersGone = 0) =>
        count.Bind(1, waiting).Bind(2, inHand).Bind(3, came).Bind(4, accepted).Bind(5, failed).Bind(6, setAside)
            .Bind(7, lettersGone).Bind(8, queue).Run();

    /// <summary>Adds to what was counted what is missing there.</summary>
    public int Mend(IReadOnlyList<Difference> missing)
    {
        foreach (var queue in missing)
            Count(queue.Queue, queue.Waiting, queue.InHand, lettersGone: -queue.DeadLetters);
        return missing.Count;
    }

    /// <summary>
    /// Hands over what is first in line. Copies that have a place in the queue and are not there, in a file that is
    /// damaged or was edited, lose their places, and are told of.
    /// </summary>
    public (List<HandOver> Handed, List<long> Missing) HandOver(
        long queue, int credit, long number, long now, long until, string worker)
    {
        var (handed, missing) = (new List<HandOver>(), new List<long>());
        var (lastDue, lastCopy, bytes) = (0L, 0L, 0);
        next.Bind(1, queue).Bind(2, now).Bind(3, credit);
        while (next.Step())
        {
            (lastDue, lastCopy) = (next.Int64(0), next.Int64(1));
            if (next.NullableInt64(5) is null)
            {
                missing.Add(lastCopy);
                continue;
            }
            var json = next.Blob(4);
            handed.Add(Leased(next, json, lastCopy, number, now));
            bytes += json.Length;
            if (bytes <= Budget.Bytes - Budget.LargestEvent) continue;
            next.Reset();
            break;
        }
        if (handed.Count + missing.Count == 0) return (handed, missing);

        lease.Bind(1, number).Bind(2, until).Bind(3, now).Bind(4, worker).Bind(5, queue).Bind(6, lastDue)
            .Bind(7, lastCopy).Run();
        leavePlaces.Bind(1, queue).Bind(2, lastDue).Bind(3, lastCopy).Run();
        foreach (var copy in missing) endLease.Bind(1, copy).Bind(2, number).Run();
        Count(queue, waiting: -handed.Count - missing.Count, inHand: handed.Count);
        return (handed, missing);
    }

    /// <summary>The row at which a statement that hands over stands.</summary>
    private static LeasedCopy Leased(Statement row, byte[] json, long copy, long number, long now) =>
        new(json, (int)row.Int64(2), (int)row.Int64(3), copy, number,
            row.NullableInt64(7) is { } first ? TimeSpan.FromMilliseconds(Math.Max(0, now - first)) : null)
        {
            Waited = TimeSpan.FromMilliseconds(Math.Max(0, now - row.Int64(8))),
            Age = TimeSpan.FromMilliseconds(Math.Max(0, now - row.Int64(8)) + (row.NullableInt64(9) ?? 0)),
        };

    public bool IsInKeyOrder(long queue) => isInKeyOrder.Bind(1, queue).Scalar() == 1;

    /// <summary>The same in key order.</summary>
    /// <param name="queue">The queue.</param>
    /// <param name="credit">How many at the most.</param>
    /// <param name="number">Of this hand-over.</param>
    /// <param name="now">The time.</param>
    /// <param name="until">When the leases end.</param>
    /// <param name="worker">Who gets them.</param>
    /// <param name="after">Behind which key to begin.</param>
    public (List<HandOver> Handed, List<long> Missing, string LastKey) HandOverInKeyOrder(
        long queue, int credit, long number, long now, long until, string worker, string after)
    {
        var (handed, missing, last, bytes) = (new List<HandOver>(), new List<long>(), after, 0);
        var places = new List<(long Due, long Copy)>();
        nextInKeyOrder.Bind(1, queue).Bind(2, now).Bind(3, after).Bind(4, credit);
        while (nextInKeyOrder.Step())
        {
            var (due, copy) = (nextInKeyOrder.Int64(0), nextInKeyOrder.Int64(1));
            places.Add((due, copy));
            last = nextInKeyOrder.Text(6)!;
            if (nextInKeyOrder.NullableInt64(5) is null)
            {
                missing.Add(copy);
                continue;
            }
            var json = nextInKeyOrder.Blob(4);
            handed.Add(Leased(nextInKeyOrder, json, copy, number, now));
            bytes += json.Length;
            if (bytes <= Budget.Bytes - Budget.LargestEvent) continue;
            nextInKeyOrder.Reset();
            break;
        }
        foreach (var (due, copy) in places)
        {
            if (!missing.Contains(copy))
            {
                leaseOne.Bind(1, number).Bind(2, until).Bind(3, now).Bind(4, worker).Bind(5, queue).Bind(6, due)
                    .Bind(7, copy).Run();
            }
            leavePlace.Bind(1, queue).Bind(2, due).Bind(3, copy).Run();
        }
        if (places.Count > 0) Count(queue, waiting: -places.Count, inHand: handed.Count);
        return (handed, missing, last);
    }

    public bool Renew(LeasedCopy copy, long until) =>
        renew.Bind(1, until).Bind(2, copy.Copy).Bind(3, copy.Number).Run() == 1;

    public bool Accept(LeasedCopy copy)
    {
        if (!EndLease(copy)) return false;
        deleteCopy.Bind(1, copy.Copy).Run();
        return true;
    }

    public bool Release(LeasedCopy copy, long now) =>
        release.Bind(1, now).Bind(2, copy.Copy).Bind(3, copy.Number).Run() == 1 && EndLease(copy);

    public bool Retry(LeasedCopy copy, long due, bool counts, string error) =>
        retry.Bind(1, due).Bind(2, counts ? 0 : 1).BindPlain(3, error).Bind(4, copy.Copy).Bind(5, copy.Number)
            .Run() == 1
        && EndLease(copy);

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
            if (wasSentBack.Bind(1, copy.Copy).Bind(2, copy.Number).Scalar() is null) return (Accept(copy), null);
            Discard(before);
            Count(queue, lettersGone: 1);
        }
        setAside.BindPlain(1, outcome.Reason).BindPlain(2, outcome.Failure?.Exception)
            .BindPlain(3, outcome.Failure?.Message).BindPlain(4, outcome.Failure?.Stack).Bind(5, now).Bind(6, identity);
        if (setAside.Bind(7, copy.Copy).Bind(8, copy.Number).Run() != 1) return (false, null);
        var letter = setAside.LastRowId.ToString(CultureInfo.InvariantCulture);
        return (Accept(copy), letter);
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

    /// <summary>Gives back what dead workers held; the queues that got something.</summary>
    public List<long> ReturnExpired(long now)
    {
        var queues = new List<(long Id, long Count)>();
        expiredQueues.Bind(1, now);
        while (expiredQueues.Step()) queues.Add((expiredQueues.Int64(0), expiredQueues.Int64(1)));
        if (queues.Count > 0)
        {
            returnExpired.Bind(1, now).Run();
            endExpired.Bind(1, now).Run();
            foreach (var (id, expired) in queues) Count(id, waiting: expired, inHand: -expired);
        }
        return queues.ConvertAll(q => q.Id);
    }

    public void Dispose()
    {
        foreach (var statement in new[]
        {
            topologyVersion, generation, lastStamp, firstStamp, stamp, routes,
            addCopy, addPlace, count, next, lease, leavePlaces, endLease, renew, deleteCopy, release, retry,
            setAside, expiredQueues, returnExpired, endExpired, isInKeyOrder, nextInKeyOrder, leaseOne, leavePlace,
            beat, leave, remember, takeLetter, oldLetters, addTried, isHere, letterOf, addLetter,
            elsewhere, setElsewhere, wasSentBack,
        })
        {
            statement.Dispose();
        }
    }

    private bool EndLease(LeasedCopy copy) => endLease.Bind(1, copy.Copy).Bind(2, copy.Number).Run() == 1;
}
