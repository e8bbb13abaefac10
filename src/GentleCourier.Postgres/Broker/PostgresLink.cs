using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>A worker's link to one queue of a <see cref="PostgresBroker"/>.</summary>
internal sealed class PostgresLink(PostgresBroker broker, PostgresServer server, BrokerStatements sql, int queue,
    string worker, TimeSpan lease) : IReceivingLink
{
    // How long a hand-over may begin where the last one ended, before one begins at the head of the queue again.
    private static readonly TimeSpan LongestRun = TimeSpan.FromMilliseconds(250);

    private readonly long link = Random.Shared.NextInt64(1, long.MaxValue);
    private readonly Lock gate = new();
    private readonly HashSet<LeaseToken> held = [];
    private long lastTaken;
    private long beganAtHead;

    public async Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken)
    {
        ArgumentOutOfRangeException.ThrowIfNegativeOrZero(credit);
        while (true)
        {
            cancellationToken.ThrowIfCancellationRequested();
            // Taken before looking, so that what comes in between is not missed.
            var changed = broker.Changed(queue).Next;
            // A hand-over that a crash of the server undoes has the event handed over again.
            var trip = new RoundTrip().NeedNotSurvive();
            var deliveries = AddHandOver(trip, credit, fromHead: true, noteAlways: false);
            // It is not cancelled once it has been asked for: what the server has handed over must be received.
            await server.RunAsync("receive from", trip, CancellationToken.None).ConfigureAwait(false);
            if (Take(deliveries, credit) > 0) return deliveries;
            await broker.Watch.WaitAsync(queue, changed, cancellationToken).ConfigureAwait(false);
        }
    }

    public async Task<Exchange> SettleAsync(
        IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken)
    {
        var trip = new RoundTrip();
        var settled = new HashSet<LeaseToken>();
        AddSettlements(trip, settlements, row => settled.Add(new LeaseToken(row.GetInt64(0), row.GetInt64(1))));
        lock (gate)
            foreach (var settlement in settlements) held.Remove(settlement.Lease);
        List<HandOver> deliveries = [];
        if (credit > 0) deliveries = AddHandOver(trip, credit, fromHead: false, noteAlways: true);
        else trip.Add(sql.NoteInHand, Parameter.Of(link), Parameter.Of(InHand));

        FaultPoint.Pass(FaultPoint.WrittenNotCommitted);
        await server.RunAsync("settle in", trip, cancellationToken).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.CommittedNotConfirmed);

        broker.CopiesGone(settled.Count);
        if (credit > 0) Take(deliveries, credit);
        if (settlements.Any(s => s.Outcome is Outcome.ReleasedOutcome or Outcome.Modified)) broker.Announce([queue]);
        return new Exchange([.. settlements.Select(s => settled.Contains(s.Lease))], deliveries);
    }

    public async Task<IReadOnlyList<bool>> RenewAsync(
        IReadOnlyList<LeaseToken> leases, CancellationToken cancellationToken)
    {
        var ours = new HashSet<LeaseToken>();
        var trip = new RoundTrip().NeedNotSurvive();
        foreach (var group in leases.GroupBy(l => l.Number))
        {
            trip.Add(
                sql.Renew, row => ours.Add(new LeaseToken(row.GetInt64(0), group.Key)),
                Parameter.Of(queue), Parameter.Of([.. group.Select(l => l.Copy)]), Parameter.Of(group.Key), server.Now,
                    Parameter.Of(lease));
        }
        trip.Add(sql.RenewLink, server.Now, Parameter.Of(lease), Parameter.Of(link));
        await server.RunAsync("renew leases in", trip, cancellationToken).ConfigureAwait(false);
        lock (gate)
            foreach (var token in leases)
                if (!ours.Contains(token)) held.Remove(token);
        return [.. leases.Select(ours.Contains)];
    }

    public async ValueTask DisposeAsync()
    {
        try
        {
            using var limit = new CancellationTokenSource(PostgresServer.Limit);
            await server.RunAsync("leave", new RoundTrip().NeedNotSurvive().Add(sql.ForgetLinks, Parameter.Of(link)),
                limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is CourierException or OperationCanceledException)
        {
            // Its row tells nothing any more once its leases are over.
        }
    }

    private int InHand
    {
        get
        {
            lock (gate) return held.Count;
        }
    }

    private List<HandOver> AddHandOver(RoundTrip trip, int credit, bool fromHead, bool noteAlways)
    {
        fromHead |= Environment.TickCount64 - beganAtHead > LongestRun.TotalMilliseconds;
        if (fromHead)
        {
            beganAtHead = Environment.TickCount64;
            trip.Add(sql.Promote, server.Now, Parameter.Of(queue));
        }
        // Never drawn twice in practice: with a thousand million hand-overs, the odds of one repeat are under 1 in 18.
        // And a repeat does harm only for the same copy, while somebody still holds its stale token.
        var number = Random.Shared.NextInt64(1, long.MaxValue);
        var deliveries = new List<HandOver>();
        trip.Add(
            sql.HandOver,
            row => deliveries.Add(
                new HandOver(row.Bytes(3), row.GetInt32(1), row.GetInt32(2), new LeaseToken(row.GetInt64(0), number))),
            server.Now, Parameter.Of(queue), Parameter.Of(fromHead ? 0 : lastTaken), Parameter.Of(credit),
                Parameter.Of(lease), Parameter.Of(number),
            Parameter.Of(worker), Parameter.Of(link), Parameter.Of(InHand), Parameter.Of(noteAlways));
        return deliveries;
    }

    /// <summary>Keeps account of what has been handed over, and brings it into the order of the queue.</summary>
    private int Take(List<HandOver> deliveries, int credit)
    {
        deliveries.Sort(static (a, b) => a.Lease.Copy.CompareTo(b.Lease.Copy));
        lock (gate)
            foreach (var delivery in deliveries) held.Add(delivery.Lease);
        // Too few: the next one begins at the head.
        if (deliveries.Count < credit) beganAtHead = 0;
        else lastTaken = deliveries[^1].Lease.Copy;
        return deliveries.Count;
    }

    private void AddSettlements(RoundTrip trip, IReadOnlyList<Settlement> settlements, Action<NpgsqlDataReader> settled)
    {
        // Those of one hand-over have one number, and nearly all are accepted: a statement for each kind and number.
        foreach (var group in settlements.GroupBy(s => (Kind: s.Outcome, s.Lease.Number)))
        {
            switch (group.Key.Kind)
            {
                case Outcome.AcceptedOutcome:
                    trip.Add(sql.Accept, settled, Leases(group));
                    break;
                case Outcome.ReleasedOutcome:
                    trip.Add(sql.Release, settled, Leases(group));
                    break;
                default:
                    foreach (var settlement in group) AddFailure(trip, settlement, settled);
                    break;
            }
        }
    }

    private void AddFailure(RoundTrip trip, Settlement settlement, Action<NpgsqlDataReader> settled)
    {
        NpgsqlParameter[] leases = Leases([settlement]);
        switch (settlement.Outcome)
        {
            case Outcome.Modified { Delay.Ticks: <= 0 } again:
                trip.Add(sql.RetryNow, settled, [.. leases, Text(again.Error)]);
                break;
            case Outcome.Modified again:
                trip.Add(sql.RetryLater, settled,
                    [.. leases, Text(again.Error), Parameter.Of(again.Delay), server.Now]);
                break;
            case Outcome.Rejected rejected:
                var (exception, message, stack) = (
                    rejected.Failure?.Exception, rejected.Failure?.Message, rejected.Failure?.Stack);
                trip.Add(sql.SetAside, settled,
                    [.. leases, Text(rejected.Reason), Text(exception), Text(message), Text(stack), server.Now]);
                break;
            default:
                throw new ArgumentException($"unknown outcome {settlement.Outcome}", nameof(settlement));
        }

        // The server's texts cannot hold the character 0.
        static NpgsqlParameter Text(string? text) => Parameter.Of(text?.Replace('\0', ' '));
    }

    /// <summary>Leases of one hand-over.</summary>
    private NpgsqlParameter[] Leases(IEnumerable<Settlement> settlements)
    {
        var leases = settlements.Select(s => s.Lease).ToArray();
        return [Parameter.Of(queue), Parameter.Of(Array.ConvertAll(leases, l => l.Copy)),
            Parameter.Of(leases[0].Number)];
    }
}
