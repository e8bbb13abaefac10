using System.Diagnostics;
using System.Globalization;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>A worker's link to one queue of a <see cref="PostgresBroker"/>.</summary>
internal sealed class PostgresLink : IReceivingLink
{
    // How long a hand-over may begin where the last one ended, before one begins at the head of the queue again.
    private static readonly TimeSpan LongestRun = TimeSpan.FromMilliseconds(250);

    private readonly PostgresBroker broker;
    private readonly PostgresServer server;
    private readonly BrokerStatements sql;
    private readonly KeyOrderStatements ofKeys;
    private readonly int queue;
    private readonly string worker;
    private readonly TimeSpan lease;
    private readonly long link = Random.Shared.NextInt64(1, long.MaxValue);
    private readonly QueuePlace place;
    private readonly KeyLine line;
    private readonly LinkRow row;
    private readonly Lock gate = new();
    private readonly HashSet<HandOver> held = [];
    // Copies whose leases had run out before they came here. One may have come twice, and a handler may still be at the
    // first: which of the two is settled its number alone tells.
    private readonly HashSet<long> abandoned = [];
    // Settling and renewing lock rows hand-over by hand-over, so that two at once could each wait for the other.
    private readonly SemaphoreSlim writing = new(1, 1);
    private long lastTaken;
    private long beganAtHead;
    private bool isInKeyOrder;

    public PostgresLink(PostgresBroker broker, BrokerStatements sql, KeyOrderStatements ofKeys, int queue,
        bool isInKeyOrder, string worker, TimeSpan lease)
    {
        (this.broker, server, this.sql, this.ofKeys) = (broker, broker.Server, sql, ofKeys);
        (this.queue, this.isInKeyOrder, this.worker, this.lease) = (queue, isInKeyOrder, worker, lease);
        place = broker.PlaceOf(queue);
        line = new KeyLine(link, queue, place, ofKeys, broker.Clock);
        row = new LinkRow(NoteAsync);
        if (isInKeyOrder) line.Begin();
    }

    public TimeSpan? RenewEvery => lease / 3;

    TimeSpan? IReceivingLink.RoundTrip => null;

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
            var fetch = AddFetch(trip, LeasedCopy.DrawNumber(), credit, fromHead: true, inHand: null);
            // It is not cancelled once it has been asked for: what the server has handed over must be received.
            await RunAsync("receive from", trip, CancellationToken.None).ConfigureAwait(false);
            if (await TakeAsync(fetch).ConfigureAwait(false) is { Count: > 0 } deliveries) return deliveries;
            if (fetch.IsMore) continue;
            await broker.Watch.WaitAsync(queue, changed, cancellationToken).ConfigureAwait(false);
        }
    }

    public async Task<Exchange> SettleAsync(
        IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken)
    {
        await writing.WaitAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            return await SettleAloneAsync(settlements, credit, cancellationToken).ConfigureAwait(false);
        }
        finally
        {
            writing.Release();
        }
    }

    private async Task<Exchange> SettleAloneAsync(
        IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken)
    {
        var trip = new RoundTrip();
        var settled = new HashSet<(long Copy, long Number)>();
        Dictionary<HandOver, string>? letters = null;
        AddSettlements(trip, settlements, row => settled.Add((row.GetInt64(0), row.GetInt64(1))),
            (delivery, letter) => (letters ??= [])[delivery] = letter.ToString(CultureInfo.InvariantCulture));
        var left = InHandWithout(settlements);
        var number = LeasedCopy.DrawNumber();
        // What comes next is looked for when others can see that the keys are free.
        if (isInKeyOrder) trip.Commit(number).NeedNotSurvive();
        var fetch = credit > 0 ? AddFetch(trip, number, credit, fromHead: false, left)
            : isInKeyOrder ? AddTelling(trip, left) : null;
        var way = fetch?.Way ?? row.Next(hasSettled: true);
        if (fetch is null && way == LinkRow.Way.Write) AddNote(trip, left);

        FaultPoint.Pass(FaultPoint.WrittenNotCommitted);
        var hasFetched = await RunSettlementAsync(trip, fetch, cancellationToken).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.CommittedNotConfirmed);

        lock (gate)
            foreach (var settlement in settlements) held.Remove(settlement.Delivery);
        broker.CopiesGone(settled.Count);
        IReadOnlyList<HandOver> next = hasFetched ? await TakeAsync(fetch!).ConfigureAwait(false) : [];
        if (!hasFetched) row.Is(way, taken: 0, left, line.Passed);
        if (settlements.Any(s => s.Outcome is Outcome.ReleasedOutcome or Outcome.Modified)) broker.Announce([queue]);
        return new Exchange([.. settlements.Select(s => settled.Contains(Key(s.Delivery)))], next)
        {
            DeadLetters = letters,
        };
    }

    /// <summary>
    /// Settles, and says whether what comes next has been taken. In key order that may fail by itself: nothing has
    /// come then, and it is looked for the next time.
    /// </summary>
    private async Task<bool> RunSettlementAsync(RoundTrip trip, Fetch? fetch, CancellationToken cancellationToken)
    {
        // Nothing to settle, to take or to say.
        if (trip.Count == 0) return false;
        try
        {
            await RunAsync("settle in", trip, cancellationToken).ConfigureAwait(false);
            return fetch is not null;
        }
        catch (CourierException) when (trip.HasCommitted)
        {
            return false;
        }
    }

    private async Task RunAsync(string tried, RoundTrip trip, CancellationToken cancellationToken)
    {
        try
        {
            await server.RunAsync(tried, trip, cancellationToken).ConfigureAwait(false);
        }
        catch
        {
            if (isInKeyOrder) line.Reset();
            throw;
        }
    }

    private static string?[] KeysOf(IEnumerable<HandOver> deliveries) =>
        [.. deliveries.Select(d => ((LeasedCopy)d).Key)];

    public Task ConfirmAsync(CancellationToken cancellationToken) => Task.CompletedTask;

    public async Task<IReadOnlyList<bool>> RenewAsync(
        IReadOnlyList<HandOver> deliveries, CancellationToken cancellationToken)
    {
        var ours = new HashSet<(long Copy, long Number)>();
        var trip = new RoundTrip().NeedNotSurvive();
        foreach (var group in deliveries.Cast<LeasedCopy>().GroupBy(l => l.Number))
        {
            trip.Add(
                sql.Renew, row => ours.Add((row.GetInt64(0), group.Key)),
                Parameter.Of(queue), Parameter.Of([.. group.Select(l => l.Copy)]), Parameter.Of(group.Key), server.Now,
                    Parameter.Of(lease));
            if (isInKeyOrder)
            {
                trip.Add(
                    ofKeys.Renew, Parameter.Of(queue), Parameter.Of([.. group.Select(l => l.Copy)]),
                    Parameter.Of(group.Key), Parameter.Of(KeysOf(group)), server.Now, Parameter.Of(lease));
            }
        }
        trip.Add(sql.RenewLink, server.Now, Parameter.Of(lease), Parameter.Of(link));
        await writing.WaitAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            await server.RunAsync("renew leases in", trip, cancellationToken).ConfigureAwait(false);
        }
        finally
        {
            writing.Release();
        }
        lock (gate)
            foreach (var delivery in deliveries)
                if (!ours.Contains(Key(delivery))) held.Remove(delivery);
        return [.. deliveries.Select(d => ours.Contains(Key(d)))];
    }

    public async ValueTask DisposeAsync()
    {
        place.Leave(link);
        await row.DisposeAsync().ConfigureAwait(false);
        try
        {
            using var limit = new CancellationTokenSource(PostgresServer.Limit);
            var trip = new RoundTrip().NeedNotSurvive();
            AddNote(trip, InHandWithout([]));
            await server.RunAsync("leave", trip.Add(sql.ForgetLinks, Parameter.Of(link)), limit.Token)
                .ConfigureAwait(false);
        }
        catch (Exception e) when (e is CourierException or OperationCanceledException)
        {
            // Its row tells nothing any more once its leases are over.
        }
        writing.Dispose();
    }

    private void AddNote(RoundTrip trip, int inHand) => trip.Add(
        sql.NoteInHand, Parameter.Of(link), Parameter.Of(inHand), Parameter.Of(line.Passed), server.Now,
        Parameter.Of(lease));

    /// <summary>Says by itself what exchanges have not.</summary>
    private async Task NoteAsync()
    {
        var (inHand, passed) = (InHandWithout([]), line.Passed);
        var trip = new RoundTrip().NeedNotSurvive();
        AddNote(trip, inHand);
        try
        {
            await server.RunAsync("note in", trip, CancellationToken.None).ConfigureAwait(false);
            row.Is(LinkRow.Way.Write, taken: 0, inHand, passed);
        }
        catch (CourierException)
        {
            // The next exchange does, or the end of the leases.
        }
    }

    private int InHandWithout(IReadOnlyList<Settlement> settlements)
    {
        lock (gate) return held.Count - settlements.Count(s => held.Contains(s.Delivery));
    }

    private static (long Copy, long Number) Key(HandOver delivery) =>
        delivery is LeasedCopy { Copy: var copy, Number: var number } ? (copy, number)
            : throw new ArgumentException("the delivery is of another link", nameof(delivery));

    /// <summary>One hand-over: what is asked for along with other statements, and what comes of it.</summary>
    private sealed record Fetch(
        int Credit, long From, bool FromHead, KeyLine.Look? Look, QueuePlace.Step? Step, LinkRow.Way Way, int InHand)
    {
        public long Began { get; } = Stopwatch.GetTimestamp();

        public List<HandOver> Deliveries { get; } = [];

        /// <summary>Those of them that have to go back: another of their key is in hand.</summary>
        public HashSet<long> Contested { get; } = [];

        /// <summary>Whether there may be more that nobody will tell of.</summary>
        public bool IsMore { get; set; }
    }

    /// <summary>In the place of a hand-over in key order that is to take nothing.</summary>
    private Fetch AddTelling(RoundTrip trip, int inHand)
    {
        var look = line.Begin(trip, credit: 0, isFromHead: false, null, server.Now);
        var fetch = new Fetch(0, place.From, FromHead: false, look, null, row.Next(hasSettled: true), inHand);
        look.AddTelling(trip, ofKeys, server.Now, queue, place.Known);
        if (fetch.Way == LinkRow.Way.Write) AddNote(trip, inHand);
        return fetch;
    }

    /// <param name="trip">The statements that it goes along with.</param>
    /// <param name="number">Of this hand-over.</param>
    /// <param name="credit">How many deliveries to take at the most.</param>
    /// <param name="fromHead">Whether to begin where the queue does, or where the last one ended.</param>
    /// <param name="inHand">How many the other statements leave in hand; null where there are none.</param>
    private Fetch AddFetch(RoundTrip trip, long number, int credit, bool fromHead, int? inHand)
    {
        fromHead |= Environment.TickCount64 - beganAtHead > LongestRun.TotalMilliseconds;
        if (fromHead) beganAtHead = Environment.TickCount64;
        var step = fromHead ? place.TryBegin() : null;
        step?.AddBefore(trip, sql);
        var wasInKeyOrder = isInKeyOrder;
        if (fromHead)
        {
            trip.Add(sql.Promote, server.Now, Parameter.Of(queue));
            // It may have become one since.
            if (!isInKeyOrder) trip.Add(sql.IsInKeyOrder, row => isInKeyOrder = row.GetBoolean(0), Parameter.Of(queue));
        }
        var look = wasInKeyOrder ? line.Begin(trip, credit, fromHead, step, server.Now) : null;
        var fetch = new Fetch(credit, fromHead || look is not null ? place.From : lastTaken, fromHead, look, step,
            row.Next(hasSettled: inHand is not null), inHand ?? InHandWithout([]));
        NpgsqlParameter[] parameters =
        [
            server.Now, Parameter.Of(queue), Parameter.Of(look?.From ?? fetch.From), Parameter.Of(credit),
            Parameter.Of(lease), Parameter.Of(number), Parameter.Of(worker), Parameter.Of(link),
            Parameter.Of(fetch.InHand), Parameter.Of((int)fetch.Way),
            Parameter.Of(look is null ? place.Known : fetch.From),
        ];
        if (look is null) trip.Add(sql.HandOver, HandedOver, parameters);
        else look.Add(trip, ofKeys, isAfterSettlement: inHand is not null, HandedOver, parameters);
        step?.AddAfter(trip, sql, queue);
        if (look is null) return fetch;
        trip.Commit().Add(
            ofKeys.Contested, row => fetch.Contested.Add(row.GetInt64(0)), server.Now, Parameter.Of(queue),
            Parameter.Of(fetch.From), Parameter.Of(number));
        return fetch;

        void HandedOver(NpgsqlDataReader row)
        {
            look?.Read(row);
            if (row.IsDBNull(0)) return;
            fetch.Deliveries.Add(
                new LeasedCopy(
                    row.Bytes(3), row.GetInt32(1), row.GetInt32(2), row.GetInt64(0), number, row.Span(5))
                {
                    Waited = row.Age(6), Age = row.Age(6) + (row.Span(7) ?? TimeSpan.Zero),
                    Uncounted = row.GetInt32(8), Key = row.Text(4),
                });
        }
    }

    /// <summary>
    /// Keeps account of what has been handed over, and brings it into the order of the queue; what is contested goes
    /// back.
    /// </summary>
    private async Task<IReadOnlyList<HandOver>> TakeAsync(Fetch fetch)
    {
        var deliveries = Take(fetch);
        row.Is(fetch.Way, deliveries.Count, fetch.InHand + deliveries.Count, line.Passed);
        if (fetch.Contested.Count == 0) return deliveries;
        var contested = deliveries.FindAll(d => fetch.Contested.Contains(Key(d).Copy));
        await GiveBackAsync(contested).ConfigureAwait(false);
        return [.. deliveries.Except(contested)];
    }

    /// <summary>Where it fails, it goes back when its leases end.</summary>
    private async Task GiveBackAsync(List<HandOver> contested)
    {
        lock (gate) held.ExceptWith(contested);
        var trip = new RoundTrip();
        AddSettlements(trip, contested.ConvertAll(d => new Settlement(d, Outcome.Released)), static _ => { },
            static (_, _) => { });
        try
        {
            await server.RunAsync("give back to", trip, CancellationToken.None).ConfigureAwait(false);
            line.Free(KeysOf(contested).OfType<string>());
        }
        catch (CourierException)
        {
            line.Reset();
        }
    }

    private List<HandOver> Take(Fetch fetch)
    {
        var deliveries = fetch.Deliveries;
        deliveries.Sort(static (a, b) => Key(a).Copy.CompareTo(Key(b).Copy));
        lock (gate)
        {
            held.UnionWith(deliveries);
            foreach (var delivery in deliveries)
                if (delivery.Abandoned > 0) abandoned.Add(Key(delivery).Copy);
        }
        // Too few: the next one begins at the head.
        if (deliveries.Count < fetch.Credit) beganAtHead = 0;
        else if (fetch.Look is null && deliveries.Count > 0) lastTaken = Key(deliveries[^1]).Copy;
        // Whatever lies behind the place would have come first.
        if (fetch is { FromHead: true, From: 0 }) place.LookedAtAll(Stopwatch.GetElapsedTime(fetch.Began));
        fetch.Step?.End(fetch.Look?.Passed ?? (deliveries.Count > 0 ? Key(deliveries[^1]).Copy : null));
        // It may have been put in key order in this moment.
        fetch.IsMore = fetch.Look is { } look ? line.End(look, deliveries.Count) : isInKeyOrder;
        if (fetch.Look is { HasTurned: true }) broker.Announce([queue]);
        return deliveries;
    }

    private void AddSettlements(RoundTrip trip, IReadOnlyList<Settlement> settlements,
        Action<NpgsqlDataReader> settled, Action<HandOver, long> setAside)
    {
        // Those of one hand-over have one number: a statement for each kind and number, and one for all that is
        // accepted.
        foreach (var group in settlements.GroupBy(s => GroupOf(s)))
        {
            // In key order the keys are nobody's from here on, and what waits with them is looked for.
            var keys = isInKeyOrder ? KeysOf(group.Select(s => s.Delivery)) : null;
            if (keys is not null) line.Free(keys.OfType<string>());
            switch (group.Key.Kind)
            {
                case Kind.Accepted when keys is not null:
                    trip.Add(sql.AcceptWithKeys, settled, [.. LeasesOfAll(group), Parameter.Of(keys)]);
                    continue;
                case Kind.Accepted:
                    trip.Add(sql.Accept, settled, LeasesOfAll(group));
                    break;
                case Kind.Released:
                    trip.Add(sql.Release, settled, Leases(group));
                    break;
                case Kind.Rejected:
                    foreach (var settlement in group) AddRejected(trip, settlement, settled, setAside);
                    break;
                default:
                    AddModified(trip, [.. group], group.Key.Kind, settled);
                    break;
            }
            if (keys is not null) trip.Add(ofKeys.Free, [.. Leases(group), Parameter.Of(keys)]);
        }
    }

    private enum Kind
    {
        Accepted,
        Released,
        RetriedNow,
        RetriedLater,
        Rejected,
    }

    private static Kind KindOf(Outcome outcome) => outcome switch
    {
        Outcome.AcceptedOutcome => Kind.Accepted,
        Outcome.ReleasedOutcome => Kind.Released,
        Outcome.Modified { Delay.Ticks: <= 0, Counts: true } => Kind.RetriedNow,
        Outcome.Modified => Kind.RetriedLater,
        Outcome.Rejected => Kind.Rejected,
        _ => throw new ArgumentException($"unknown outcome {outcome}", nameof(outcome)),
    };

    private void AddModified(RoundTrip trip, Settlement[] settlements, Kind kind, Action<NpgsqlDataReader> settled)
    {
        var modified = Array.ConvertAll(settlements, s => (Outcome.Modified)s.Outcome);
        NpgsqlParameter[] failed =
            [.. Leases(settlements), Parameter.Plain(Array.ConvertAll(modified, m => (string?)m.Error))];
        if (kind == Kind.RetriedNow) trip.Add(sql.RetryNow, settled, failed);
        else trip.Add(sql.RetryLater, settled,
            [.. failed, Parameter.Of(Array.ConvertAll(modified, m => (TimeSpan?)m.Delay)),
            Parameter.Of(Array.ConvertAll(modified, m => m.Counts ? 0 : 1)), server.Now,
            Parameter.Of(Array.ConvertAll(modified, m => m.Uncounted))]);
    }

    private void AddRejected(RoundTrip trip, Settlement settlement, Action<NpgsqlDataReader> settled,
        Action<HandOver, long> setAside)
    {
        var rejected = (Outcome.Rejected)settlement.Outcome;
        var (failure, identity) = (rejected.Failure, EventIdentity.Of(settlement.Delivery.Json));
        trip.Add(sql.ReplaceLetter, static _ => { }, [.. Leases([settlement]), Parameter.Of(identity)]);
        trip.Add(
            sql.SetAside,
            row =>
            {
                settled(row);
                if (!row.IsDBNull(2)) setAside(settlement.Delivery, row.GetInt64(2));
            },
            [.. Leases([settlement]), Parameter.Plain(rejected.Reason), Parameter.Plain(failure?.Exception),
            Parameter.Plain(failure?.Message), Parameter.Plain(failure?.Stack), server.Now, Parameter.Of(identity)]);
    }

    private (Kind Kind, long? Number) GroupOf(Settlement settlement)
    {
        var (kind, (copy, number)) = (KindOf(settlement.Outcome), Key(settlement.Delivery));
        lock (gate) return (kind, kind == Kind.Accepted && !abandoned.Contains(copy) ? null : number);
    }

    /// <summary>Leases of several hand-overs.</summary>
    private NpgsqlParameter[] LeasesOfAll(IEnumerable<Settlement> settlements)
    {
        var leases = settlements.Select(s => Key(s.Delivery)).ToArray();
        return [Parameter.Of(queue), Parameter.Of(Array.ConvertAll(leases, l => l.Copy)),
            Parameter.Of([.. leases.Select(l => l.Number).Distinct()])];
    }

    /// <summary>Leases of one hand-over.</summary>
    private NpgsqlParameter[] Leases(IEnumerable<Settlement> settlements)
    {
        var leases = settlements.Select(s => Key(s.Delivery)).ToArray();
        return [Parameter.Of(queue), Parameter.Of(Array.ConvertAll(leases, l => l.Copy)),
            Parameter.Of(leases[0].Number)];
    }
}
