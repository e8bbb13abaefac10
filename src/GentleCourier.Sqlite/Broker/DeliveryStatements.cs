using GentleCourier.Engines;

namespace GentleCourier.Sqlite;

/// <summary>Hands over copies of a queue, takes back what becomes of them, and counts it.</summary>
internal sealed class DeliveryStatements(Prepared all)
{
    // So few that nobody waits for it.
    private const int KeysAtOnce = 200;

    private readonly Statement count = all.Add("""
        UPDATE courier_queue SET waiting = waiting + ?1, in_hand = in_hand + ?2, came = came + ?3,
            accepted = accepted + ?4, failed = failed + ?5, set_aside = set_aside + ?6, dead = dead + ?6 - ?7
            WHERE id = ?8
        """);

    // The first n places of a queue are those up to the nth, so three statements hand over any number of events.
    private readonly Statement next = all.Add("""
        SELECT p.due, p.copy, p.attempts + 1, p.abandoned, c.event, c.id, p.key, p.first_attempt, c.arrived, c.waited,
            p.uncounted
        FROM courier_place p LEFT JOIN courier_copy c ON c.id = p.copy
        WHERE p.queue = ? AND p.due <= ? ORDER BY p.due, p.copy LIMIT ?
        """);
    private readonly Statement lease = all.Add("""
        INSERT INTO courier_lease (copy, queue, number, until, attempts, abandoned, uncounted, first_attempt, worker,
            error)
        SELECT copy, queue, ?1, ?2, attempts + 1, abandoned, uncounted, coalesce(first_attempt, ?3), ?4, error
        FROM courier_place WHERE queue = ?5 AND (due, copy) <= (?6, ?7)
        """);

    // In key order what may be handed over has a row of its own, and the oldest comes first.
    private readonly Statement isInKeyOrder = all.Add(
        "SELECT in_key_order FROM courier_queue WHERE id = ?");
    private readonly Statement isOpen = all.Add(
        "SELECT 1 FROM courier_queue WHERE id = ?1 AND (NOT is_paused OR paused_until <= ?2)");
    private readonly Statement pausedSince = all.Add("""
        SELECT sum(min(coalesce(ended, ?2), ?2) - max(began, ?3)) FROM courier_pause
        WHERE queue = ?1 AND (ended IS NULL OR ended > ?3)
        """);
    private readonly Statement headsDue = all.Add(
        "UPDATE courier_head SET at = 0 WHERE queue = ? AND at > 0 AND at <= ?");
    private readonly Statement nextInKeyOrder = all.Add("""
        SELECT p.due, p.copy, p.attempts + 1, p.abandoned, c.event, c.id, p.key, p.first_attempt, c.arrived, c.waited,
            p.uncounted
        FROM courier_head h
            CROSS JOIN courier_place p INDEXED BY courier_place_key
                ON p.queue = h.queue AND p.key = h.key AND p.copy = h.copy
            LEFT JOIN courier_copy c ON c.id = p.copy
        WHERE h.queue = ? AND h.at = 0 ORDER BY h.copy LIMIT ?
        """);
    private readonly Statement leaseOne = all.Add("""
        INSERT INTO courier_lease (copy, queue, number, until, attempts, abandoned, uncounted, first_attempt, worker,
            error, key)
        SELECT copy, queue, ?1, ?2, attempts + 1, abandoned, uncounted, coalesce(first_attempt, ?3), ?4, error, key
        FROM courier_place WHERE queue = ?5 AND due = ?6 AND copy = ?7
        """);
    private readonly Statement leavePlace = all.Add(
        "DELETE FROM courier_place WHERE queue = ? AND due = ? AND copy = ?");

    private readonly Statement keylessFrom = all.Add("SELECT keyless_from FROM courier_queue WHERE id = ?");
    private readonly Statement keyless = all.Add($"""
        SELECT due, copy FROM courier_place WHERE queue = ? AND due >= ? AND key IS NULL ORDER BY due, copy
        LIMIT {KeysAtOnce}
        """);
    private readonly Statement giveKey = all.Add(
        "UPDATE courier_place SET key = ? WHERE queue = ? AND due = ? AND copy = ?");
    private readonly Statement keyedUpTo = all.Add("UPDATE courier_queue SET keyless_from = ? WHERE id = ?");
    private readonly Statement leavePlaces = all.Add(
        "DELETE FROM courier_place WHERE queue = ? AND (due, copy) <= (?, ?)");
    private readonly Statement endLease = all.Add("DELETE FROM courier_lease WHERE copy = ? AND number = ?");
    private readonly Statement renew = all.Add(
        "UPDATE courier_lease SET until = ? WHERE copy = ? AND number = ?");
    private readonly Statement deleteCopy = all.Add("DELETE FROM courier_copy WHERE id = ?");
    private readonly Statement release = all.Add("""
        INSERT INTO courier_place (queue, due, copy, attempts, abandoned, uncounted, first_attempt, error, key)
        SELECT l.queue, min(c.arrived, ?), l.copy, l.attempts - 1, l.abandoned, l.uncounted,
            iif(l.attempts > 1 OR l.error IS NOT NULL, l.first_attempt, NULL), l.error, l.key
        FROM courier_lease l JOIN courier_copy c ON c.id = l.copy WHERE l.copy = ? AND l.number = ?
        """);
    private readonly Statement retry = all.Add("""
        INSERT INTO courier_place (queue, due, copy, attempts, uncounted, first_attempt, error, key)
        SELECT queue, ?, copy, attempts - ?, uncounted + ?, first_attempt, ?, key
        FROM courier_lease WHERE copy = ? AND number = ?
        """);
    private readonly Statement expiredQueues = all.Add(
        "SELECT queue, count(*) FROM courier_lease WHERE until <= ? GROUP BY queue");
    private readonly Statement returnExpired = all.Add("""
        INSERT INTO courier_place (queue, due, copy, attempts, abandoned, uncounted, first_attempt, error, key)
        SELECT l.queue, min(c.arrived, ?1), l.copy, l.attempts, l.abandoned + 1, l.uncounted, l.first_attempt,
            'the lease of ' || l.worker || ' ran out', l.key
        FROM courier_lease l JOIN courier_copy c ON c.id = l.copy WHERE l.until <= ?1
        """);
    private readonly Statement endExpired = all.Add("DELETE FROM courier_lease WHERE until <= ?");

    public void Count(long queue, long waiting = 0, long inHand = 0, long came = 0, long accepted = 0, long failed = 0,
        long setAside = 0, long lettersGone = 0) =>
        count.Bind(1, waiting).Bind(2, inHand).Bind(3, came).Bind(4, accepted).Bind(5, failed).Bind(6, setAside)
            .Bind(7, lettersGone).Bind(8, queue).Run();

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
            handed.Add(Leased(queue, next, json, lastCopy, number, now));
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
    private LeasedCopy Leased(long queue, Statement row, byte[] json, long copy, long number, long now) =>
        new(json, (int)row.Int64(2), (int)row.Int64(3), copy, number,
            row.NullableInt64(7) is { } first ? TimeSpan.FromMilliseconds(TriedFor(queue, first, now)) : null)
        {
            Uncounted = (int)row.Int64(10), Waited = TimeSpan.FromMilliseconds(Math.Max(0, now - row.Int64(8))),
            Age = TimeSpan.FromMilliseconds(Math.Max(0, now - row.Int64(8)) + (row.NullableInt64(9) ?? 0)),
        };

    /// <summary>Since its first attempt, but for what the queue was paused by hand.</summary>
    private long TriedFor(long queue, long first, long now) => Math.Max(
        0, now - first - (pausedSince.Bind(1, queue).Bind(2, now).Bind(3, first).Scalar() ?? 0));

    /// <summary>Whether anything may be handed over: not while the queue is paused by hand.</summary>
    public bool IsOpen(long queue, long now) => isOpen.Bind(1, queue).Bind(2, now).Scalar() is not null;

    public bool IsInKeyOrder(long queue) => isInKeyOrder.Bind(1, queue).Scalar() == 1;

    /// <summary>
    /// The same in key order: of the keys of which nothing is in hand those begin whose first event came first.
    /// </summary>
    public (List<HandOver> Handed, List<long> Missing) HandOverInKeyOrder(
        long queue, int credit, long number, long now, long until, string worker)
    {
        if (keylessFrom.Bind(1, queue).Scalar() is { } from) GiveKeys(queue, from);
        headsDue.Bind(1, queue).Bind(2, now).Run();
        var (handed, missing, bytes) = (new List<HandOver>(), new List<long>(), 0);
        var places = new List<(long Due, long Copy, bool IsThere)>();
        nextInKeyOrder.Bind(1, queue).Bind(2, credit);
        while (nextInKeyOrder.Step())
        {
            var (due, copy) = (nextInKeyOrder.Int64(0), nextInKeyOrder.Int64(1));
            places.Add((due, copy, nextInKeyOrder.NullableInt64(5) is not null));
            if (!places[^1].IsThere)
            {
                missing.Add(copy);
                continue;
            }
            var json = nextInKeyOrder.Blob(4);
            handed.Add(Leased(queue, nextInKeyOrder, json, copy, number, now));
            bytes += json.Length;
            if (bytes <= Budget.Bytes - Budget.LargestEvent) continue;
            nextInKeyOrder.Reset();
            break;
        }
        foreach (var (due, copy, isThere) in places)
        {
            if (isThere)
            {
                leaseOne.Bind(1, number).Bind(2, until).Bind(3, now).Bind(4, worker).Bind(5, queue).Bind(6, due)
                    .Bind(7, copy).Run();
            }
            leavePlace.Bind(1, queue).Bind(2, due).Bind(3, copy).Run();
        }
        if (places.Count > 0) Count(queue, waiting: -places.Count, inHand: handed.Count);
        return (handed, missing);
    }

    /// <summary>What was there before the queue was put in key order gets keys of its own.</summary>
    private void GiveKeys(long queue, long from)
    {
        var found = new List<(long Due, long Copy)>();
        keyless.Bind(1, queue).Bind(2, from);
        while (keyless.Step()) found.Add((keyless.Int64(0), keyless.Int64(1)));
        foreach (var (due, copy) in found)
            giveKey.Bind(1, BrokerStatements.KeyOf(copy)).Bind(2, queue).Bind(3, due).Bind(4, copy).Run();
        keyedUpTo.Bind(1, found.Count < KeysAtOnce ? (long?)null : found[^1].Due).Bind(2, queue).Run();
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

    public bool Retry(LeasedCopy copy, long due, Outcome.Modified again) =>
        retry.Bind(1, due).Bind(2, again.Counts ? 0 : 1).Bind(3, again.Uncounted).BindPlain(4, again.Error)
            .Bind(5, copy.Copy).Bind(6, copy.Number).Run() == 1
        && EndLease(copy);

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

    private bool EndLease(LeasedCopy copy) => endLease.Bind(1, copy.Copy).Bind(2, copy.Number).Run() == 1;
}
