using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>What a broker writes, statement by statement; used inside the writer's transaction only.</summary>
internal sealed class BrokerStatements(SqliteConnection connection) : IDisposable
{
    private readonly Statement topologyVersion = new(connection, "SELECT version FROM courier_topology");
    private readonly Statement routes = new(connection, "SELECT type, queue FROM courier_route ORDER BY type");
    private readonly Statement addCopy = new(connection, "INSERT INTO courier_copy (arrived, event) VALUES (?, ?)");
    private readonly Statement addPlace = new(
        connection, "INSERT INTO courier_place (queue, due, copy) VALUES (?, ?, ?)");
    private readonly Statement count = new(connection,
        "UPDATE courier_queue SET waiting = waiting + ?, in_hand = in_hand + ?, dead = dead + ? WHERE id = ?");

    // The first n places of a queue are those up to the nth, so three statements hand over any number of events.
    private readonly Statement next = new(connection, """
        SELECT p.due, p.copy, p.attempts + 1, p.abandoned, c.event FROM courier_place p
            JOIN courier_copy c ON c.id = p.copy
        WHERE p.queue = ? AND p.due <= ? ORDER BY p.due, p.copy LIMIT ?
        """);
    private readonly Statement lease = new(connection, """
        INSERT INTO courier_lease (copy, queue, number, until, attempts, abandoned, first_attempt, worker, error)
        SELECT copy, queue, ?1, ?2, attempts + 1, abandoned, coalesce(first_attempt, ?3), ?4, error
        FROM courier_place WHERE queue = ?5 AND (due, copy) <= (?6, ?7)
        """);
    private readonly Statement leavePlaces = new(
        connection, "DELETE FROM courier_place WHERE queue = ? AND (due, copy) <= (?, ?)");

    private readonly Statement endLease = new(connection, "DELETE FROM courier_lease WHERE copy = ? AND number = ?");
    private readonly Statement renew = new(
        connection, "UPDATE courier_lease SET until = ? WHERE copy = ? AND number = ?");
    private readonly Statement deleteCopy = new(connection, "DELETE FROM courier_copy WHERE id = ?");
    private readonly Statement release = new(connection, """
        INSERT INTO courier_place (queue, due, copy, attempts, abandoned, first_attempt, error)
        SELECT l.queue, min(c.arrived, ?), l.copy, l.attempts - 1, l.abandoned,
            iif(l.attempts > 1, l.first_attempt, NULL), l.error
        FROM courier_lease l JOIN courier_copy c ON c.id = l.copy WHERE l.copy = ? AND l.number = ?
        """);
    private readonly Statement retry = new(connection, """
        INSERT INTO courier_place (queue, due, copy, attempts, first_attempt, error)
        SELECT queue, ?, copy, attempts, first_attempt, ? FROM courier_lease WHERE copy = ? AND number = ?
        """);
    private readonly Statement setAside = new(connection, """
        INSERT INTO courier_dead_letter
            (queue, reason, exception, message, stack, attempts, worker, arrived, first_attempt, set_aside, event)
        SELECT l.queue, ?, ?, ?, ?, l.attempts, l.worker, c.arrived, l.first_attempt, ?, c.event
        FROM courier_lease l JOIN courier_copy c ON c.id = l.copy WHERE l.copy = ? AND l.number = ?
        """);

    private readonly Statement expiredQueues = new(
        connection, "SELECT queue, count(*) FROM courier_lease WHERE until <= ? GROUP BY queue");
    private readonly Statement returnExpired = new(connection, """
        INSERT INTO courier_place (queue, due, copy, attempts, abandoned, first_attempt, error)
        SELECT l.queue, min(c.arrived, ?1), l.copy, l.attempts, l.abandoned + 1, l.first_attempt,
            'the lease of ' || l.worker || ' ran out'
        FROM courier_lease l JOIN courier_copy c ON c.id = l.copy WHERE l.until <= ?1
        """);
    private readonly Statement endExpired = new(connection, "DELETE FROM courier_lease WHERE until <= ?");

    public long TopologyVersion => topologyVersion.Scalar() ?? 0;

    public Dictionary<string, long[]> ReadRoutes()
    {
        var found = new List<(string Type, long Queue)>();
        while (routes.Step()) found.Add((routes.Text(0)!, routes.Int64(1)));
        return found.GroupBy(r => r.Type, r => r.Queue, StringComparer.Ordinal)
            .ToDictionary(g => g.Key, g => g.ToArray(), StringComparer.Ordinal);
    }

    public void AddCopy(long queue, long now, ReadOnlySpan<byte> json)
    {
        addCopy.Bind(1, now).Bind(2, json).Run();
        addPlace.Bind(1, queue).Bind(2, now).Bind(3, addCopy.LastRowId).Run();
    }

    public void Count(long queue, long waiting = 0, long inHand = 0, long dead = 0) =>
        count.Bind(1, waiting).Bind(2, inHand).Bind(3, dead).Bind(4, queue).Run();

    public List<HandOver> HandOver(long queue, int credit, long number, long now, long until, string worker)
    {
        var handed = new List<HandOver>();
        var (lastDue, lastCopy) = (0L, 0L);
        next.Bind(1, queue).Bind(2, now).Bind(3, credit);
        while (next.Step())
        {
            (lastDue, lastCopy) = (next.Int64(0), next.Int64(1));
            handed.Add(
                new HandOver(next.Blob(4), (int)next.Int64(2), (int)next.Int64(3), new LeaseToken(lastCopy, number)));
        }
        if (handed.Count == 0) return handed;

        lease.Bind(1, number).Bind(2, until).Bind(3, now).Bind(4, worker).Bind(5, queue).Bind(6, lastDue)
            .Bind(7, lastCopy).Run();
        leavePlaces.Bind(1, queue).Bind(2, lastDue).Bind(3, lastCopy).Run();
        Count(queue, waiting: -handed.Count, inHand: handed.Count);
        return handed;
    }

    public bool Renew(LeaseToken token, long until) =>
        renew.Bind(1, until).Bind(2, token.Copy).Bind(3, token.Number).Run() == 1;

    public bool Accept(LeaseToken token)
    {
        if (!EndLease(token)) return false;
        deleteCopy.Bind(1, token.Copy).Run();
        return true;
    }

    public bool Release(LeaseToken token, long now) =>
        release.Bind(1, now).Bind(2, token.Copy).Bind(3, token.Number).Run() == 1 && EndLease(token);

    public bool Retry(LeaseToken token, long due, string error) =>
        retry.Bind(1, due).Bind(2, error).Bind(3, token.Copy).Bind(4, token.Number).Run() == 1 && EndLease(token);

    public bool SetAside(LeaseToken token, Outcome.Rejected outcome, long now)
    {
        setAside.Bind(1, outcome.Reason).Bind(2, outcome.Failure?.Exception).Bind(3, outcome.Failure?.Message)
            .Bind(4, outcome.Failure?.Stack);
        return setAside.Bind(5, now).Bind(6, token.Copy).Bind(7, token.Number).Run() == 1 && Accept(token);
    }

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
            topologyVersion, routes, addCopy, addPlace, count, next, lease, leavePlaces, endLease, renew, deleteCopy,
            release, retry, setAside, expiredQueues, returnExpired, endExpired,
        })
        {
            statement.Dispose();
        }
    }

    private bool EndLease(LeaseToken token) => endLease.Bind(1, token.Copy).Bind(2, token.Number).Run() == 1;
}
