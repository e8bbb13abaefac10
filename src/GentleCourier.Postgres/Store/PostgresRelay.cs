using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>What a relay does with an outbox in a service's own database.</summary>
/// <param name="server">Where.</param>
/// <param name="listener">Hears of events that are added, while a relay waits.</param>
/// <param name="added">Raised then.</param>
/// <param name="clearing">Is told of rows that have left.</param>
/// <param name="clock">The clock.</param>
internal sealed class PostgresRelay(
    PostgresServer server, Listener listener, Signal added, Clearing clearing, TimeProvider clock)
{
    private const long NobodysTerm = -1;

    private readonly LeadStatements lead = new(server);
    private readonly OutboxStatements read = new(server);
    private readonly MarkStatements mark = new(server);

    // The term in which this store's relay leads, and whether the table says that it waits: then publishers tell it of
    // events. It still says so for a moment when the relay is awake.
    private long leads = NobodysTerm;
    private volatile bool saysThatItWaits, isAwake;
    private Position position = new(0, clock);
    private readonly Wakings wakings = new(clock);
    private ReadThrough? readThrough;

    public PostgresServer Server => server;

    /// <summary>Holds fresh events whose key is held.</summary>
    public RoundTrip AddFollowers(RoundTrip trip, long term, long from, int limit) =>
        trip.Add(read.HoldFollowers, Parameter.Of(term), Parameter.Of(from), Parameter.Of(limit));

    /// <summary>So many events have left the outbox.</summary>
    public void EventsGone(int count) => clearing.Gone(count);

    public async Task<long?> LeadAsync(string relay, TimeSpan lease, CancellationToken cancellationToken)
    {
        (long Term, long Place)? led = null;
        var place = Parameter.Of(Volatile.Read(ref position).Place);
        await server.RunAsync(
            "lead the relays of",
            new RoundTrip().Add(
                lead.Lead, row => led = (row.GetInt64(0), row.GetInt64(1)), server.Now, Parameter.Of(relay),
                Parameter.Of(lease), place),
            cancellationToken).ConfigureAwait(false);
        var term = led?.Term ?? NobodysTerm;
        if (Volatile.Read(ref leads) == term) return led?.Term;
        readThrough = null;
        if (led is { } begun)
        {
            await server.RunAsync(
                "look for the keys of", new RoundTrip().Add(lead.FindKeys, Parameter.Of(term), server.Now)
                    .Add(lead.FindTurns, Parameter.Of(term), server.Now)
                    .Add(lead.FindObstacles, Parameter.Of(term), server.Now),
                cancellationToken, PostgresBroker.PublishLimit).ConfigureAwait(false);
            Volatile.Write(ref position, new Position(begun.Place, clock));
        }
        saysThatItWaits = false;
        Volatile.Write(ref leads, term);
        return led?.Term;
    }

    public Task ResignAsync(long term, CancellationToken cancellationToken) =>
        server.RunAsync("resign from leading the relays of", new RoundTrip().Add(lead.Resign, Parameter.Of(term)),
            cancellationToken);

    public async Task<OutboxBatch> ReadOutboxAsync(int limit, CancellationToken cancellationToken)
    {
        if (Interlocked.Exchange(ref readThrough, null) is { IsStillTrue: true } known)
            return new OutboxBatch([], known.DueIn, false);
        var (heard, tellAll, began) = (added.Next, saysThatItWaits && !isAwake, clock.GetTimestamp());
        var (reading, term) = (Begin(), Volatile.Read(ref leads));
        var (held, waiting, fresh) = (new OutboxRows(reading), new OutboxRows(reading), new OutboxRows(reading));
        var (dueIn, isPaused) = ((TimeSpan?)null, false);
        await RunAwakeAsync(
            "read the outbox of",
            trip => reading.Add(trip, t => t
                .Add(read.DropKeys, Parameter.Of(term), server.Now, Parameter.Of(limit))
                .Add(read.DropObstacles, Parameter.Of(term), server.Now, Parameter.Of(limit))
                .Add(read.HoldFollowers, Parameter.Of(term), Parameter.Of(reading.From), Parameter.Of(limit))
                .Add(read.Due, held.TakeHeld, server.Now, Parameter.Of(limit))
                .Add(read.DueKeys, held.TakeHeld, server.Now, Parameter.Of(limit))
                .Add(read.DueObstacles, waiting.TakeWaiting, server.Now, Parameter.Of(limit))
                .Add(read.Fresh, fresh.Take, Parameter.Of(reading.From), Parameter.Of(limit), server.Now)
                .Add(read.NextDue, row => (dueIn, isPaused) = (row.Span(0), row.GetBoolean(1)), server.Now)),
            PostgresServer.Limit, cancellationToken).ConfigureAwait(false);
        if (isPaused) return OutboxBatch.Paused;
        var isFull = fresh.Rows.Count == limit || waiting.Rows.Count == limit
            || held.Bytes + waiting.Bytes + fresh.Bytes >= OutboxRows.Many;
        reading.End(fresh.Rows is [.., var last] ? last.Row : null, isFull);
        if (tellAll && !isFull && held.Rows.Count + waiting.Rows.Count == 0)
            readThrough = new(heard, dueIn, began, clock);
        // One may be due by its key as well, where somebody has said so by hand.
        var ofKeys = held.Rows.Select(row => row.Row).ToHashSet();
        return new OutboxBatch(
            [.. held.Rows, .. waiting.Rows.Where(row => !ofKeys.Contains(row.Row)), .. fresh.Rows], dueIn, isFull);
    }

    public async Task<OutboxBatch> ReadOnAsync(
        IReadOnlyList<OutboxRow> underWay, int limit, CancellationToken cancellationToken)
    {
        var reading = Begin();
        var fresh = new OutboxRows(reading);
        await server.RunAsync(
            "read the outbox of",
            reading.Add(new RoundTrip(), trip => trip.Add(
                read.FreshBehind, fresh.Take, Parameter.Of(reading.From), Parameter.Of(underWay[^1].Row),
                Parameter.Of(underWay.LongCount(row => !row.IsHeld)), Parameter.Of(limit), server.Now)),
            cancellationToken).ConfigureAwait(false);
        var isFull = fresh.Rows.Count == limit || fresh.Bytes >= OutboxRows.Many;
        // Where nothing was read, nothing is known of what lies before it either.
        if (fresh.Rows is [.., var last]) reading.End(last.Row, isFull);
        return new OutboxBatch(fresh.Rows, null, isFull);
    }

    /// <summary>Begins to read the outbox, from its place on, or all of it where it is time for that.</summary>
    public Reading Begin() => new(Volatile.Read(ref position), read, clock);

    public async Task<bool> MarkAsync(long term, OutboxMarks marks, CancellationToken cancellationToken)
    {
        if (!marks.IsForgettingAlone) readThrough = null;
        var isTerm = false;
        var trip = mark.Of(term, marks, goesOn => isTerm = goesOn);
        if (marks.By is { } by) Confirm(trip, term, by);
        await server.RunAsync("mark what has been relayed from", trip, cancellationToken).ConfigureAwait(false);
        EventsGone(marks.Forgotten.Count + marks.Held.Count + marks.Parts.Count);
        return isTerm;
    }

    public async Task<IReadOnlySet<string>> ReadHeldKeysAsync(
        IReadOnlyCollection<string> keys, CancellationToken cancellationToken)
    {
        var held = new HashSet<string>(StringComparer.Ordinal);
        await server.RunAsync(
            "read",
            new RoundTrip().Add(
                read.HeldKeys, row => held.Add(row.GetString(0)), Parameter.Of(keys.ToArray<string?>())),
            cancellationToken).ConfigureAwait(false);
        return held;
    }

    private void Confirm(RoundTrip trip, long term, Confirmation confirmation)
    {
        var ((generation, address, last), before) = confirmation;
        trip.Add(
            lead.Confirm, Parameter.Of(term), Parameter.Of(generation), Parameter.Of(address), Parameter.Of(last.Term),
            Parameter.Of(last.Number));
        if (before is { } gone)
        {
            trip.Add(
                lead.ForgetConfirmed, Parameter.Of(term), Parameter.Of(generation), Parameter.Of(gone.Term),
                Parameter.Of(gone.Number));
        }
    }

    public async Task<StoreMemory?> ReadConfirmedAsync(long term, CancellationToken cancellationToken)
    {
        var (identity, confirmed) = ((string?)null, new List<Confirmed>());
        await server.RunAsync(
            "read what brokers have confirmed to",
            new RoundTrip()
                .Add(lead.Identify, row => identity = row.GetString(0), Parameter.Of(term),
                    Parameter.Of(Guid.NewGuid().ToString("N")))
                .Add(lead.Confirmed, row => confirmed.Add(new(
                    row.GetString(0), row.GetString(1), new(row.GetInt64(2), row.GetInt64(3))))),
            cancellationToken).ConfigureAwait(false);
        if (identity is null) return null;
        var older = new RoundTrip().NeedNotSurvive();
        foreach (var (generation, _, last) in confirmed)
            older.Add(
                lead.ClearConfirmed, Parameter.Of(generation), Parameter.Of(last.Term), Parameter.Of(last.Number));
        if (confirmed.Count > 0)
            await server.RunAsync("clear away in", older, cancellationToken).ConfigureAwait(false);
        return new(identity, confirmed);
    }

    public async Task<long?> RaiseTermAsync(long term, long above, CancellationToken cancellationToken)
    {
        var raised = (long?)null;
        await server.RunAsync(
            "raise the term of",
            new RoundTrip().Add(
                lead.RaiseTerm, row => raised = row.GetInt64(0), Parameter.Of(term), Parameter.Of(above)),
            cancellationToken).ConfigureAwait(false);
        if (raised is { } now) Interlocked.CompareExchange(ref leads, now, term);
        return raised;
    }

    public Task AcceptBrokerAsync(bool asNewStore, CancellationToken cancellationToken) =>
        server.RunAsync(
            "accept the broker in",
            new RoundTrip().Add(lead.ForgetBrokers).Add(lead.EndTerm, Parameter.Of(asNewStore)), cancellationToken);

    public Task RecordRelayErrorAsync(long term, string? error, CancellationToken cancellationToken) =>
        server.RunAsync("write down an error of the relay in",
            new RoundTrip().Add(lead.RecordError, Parameter.Of(term), Parameter.Plain(error)), cancellationToken);

    /// <summary>
    /// Says in the table that the relay waits, looks once more, and waits to be told. A transaction that had added its
    /// events before it could read this does not tell: so those that were under way are waited for by looking, more and
    /// more rarely.
    /// </summary>
    public async Task WaitForOutboxAsync(TimeSpan limit, CancellationToken cancellationToken)
    {
        listener.Start();
        var next = added.Next;
        var began = clock.GetTimestamp();
        var underWay = saysThatItWaits && !isAwake ? 0L : long.MaxValue;
        if (underWay > 0) await SayThatItWaitsAsync(cancellationToken).ConfigureAwait(false);
        bool allTell;
        for (var pause = TimeSpan.FromMilliseconds(1); ; pause *= 1.5)
        {
            var (hasSome, oldest, following) = (false, 0L, 0L);
            await server.RunAsync(
                "look into the outbox of",
                new RoundTrip().Add(
                    read.Look,
                    row => (hasSome, oldest, following) = (row.GetBoolean(0), row.GetInt64(1), row.GetInt64(2)),
                    Parameter.Of(Volatile.Read(ref position).Place)),
                cancellationToken).ConfigureAwait(false);
            underWay = Math.Min(underWay, following);
            allTell = oldest >= underWay;
            var left = limit - clock.GetElapsedTime(began);
            if (hasSome || left <= TimeSpan.Zero) break;
            try
            {
                // To look again and again is for the machine's own clock: it waits for other transactions.
                var toTheEnd = allTell || left < pause;
                await next.WaitAsync(toTheEnd ? left : pause, toTheEnd ? clock : TimeProvider.System, cancellationToken)
                    .ConfigureAwait(false);
                break;
            }
            catch (TimeoutException) when (!allTell && left > pause)
            {
                // Look again.
            }
            catch (TimeoutException)
            {
                isAwake = !allTell;
                return;
            }
        }
        readThrough = null;
        // Where events come singly it goes on saying so: to take it back and say it again would cost more than they do.
        isAwake = !wakings.AreRare() || !allTell;
    }

    /// <summary>
    /// What it said may be gone with a server that has crashed, or one that another has taken the place of.
    /// </summary>
    public void SaysNothing() => saysThatItWaits = false;

    private async Task SayThatItWaitsAsync(CancellationToken cancellationToken)
    {
        await server.RunAsync(
            "wait for the outbox of", new RoundTrip().NeedNotSurvive()
                .Add(lead.SetWaits, Parameter.Of(true), Parameter.Of(Volatile.Read(ref leads))), cancellationToken)
            .ConfigureAwait(false);
        (saysThatItWaits, isAwake) = (true, false);
    }

    /// <summary>
    /// Runs what a relay does that has woken, and says along with it that it no longer waits: a round trip for that
    /// alone would be one more until the first event is on its way. None of it need survive a crash of the server: it
    /// only moves rows.
    /// </summary>
    public async Task RunAwakeAsync(
        string tried, Func<RoundTrip, RoundTrip> statements, TimeSpan limit, CancellationToken cancellationToken)
    {
        var trip = statements(new RoundTrip().NeedNotSurvive());
        var says = saysThatItWaits && isAwake;
        // Last, since it locks the row of the lead, which is kept beside this, however long it takes.
        if (says) trip.Add(lead.SetWaits, Parameter.Of(false), Parameter.Of(Volatile.Read(ref leads)));
        await server.RunAsync(tried, trip, cancellationToken, limit).ConfigureAwait(false);
        if (says) saysThatItWaits = false;
    }

    /// <summary>
    /// The outbox was read to its end, while everybody who adds to it tells of that: until somebody does, or something
    /// that is held is due, there is nothing more in it. Believed once.
    /// </summary>
    private sealed class ReadThrough(Task news, TimeSpan? dueIn, long at, TimeProvider clock)
    {
        private static readonly TimeSpan Longest = TimeSpan.FromMilliseconds(100);

        public TimeSpan? DueIn => dueIn - clock.GetElapsedTime(at);

        public bool IsStillTrue =>
            !news.IsCompleted && clock.GetElapsedTime(at) < Longest && DueIn is not { Ticks: <= 0 };
    }

    /// <summary>When it was woken the last few times.</summary>
    private sealed class Wakings(TimeProvider clock)
    {
        private static readonly TimeSpan Often = TimeSpan.FromMilliseconds(80);

        private readonly long[] last = new long[8];
        private int next;

        /// <summary>It is woken once more; whether so many times have not come close together.</summary>
        public bool AreRare()
        {
            var (before, now) = (last[next], clock.GetTimestamp());
            last[next] = now;
            next = (next + 1) % last.Length;
            return before == 0 || clock.GetElapsedTime(before, now) > Often;
        }
    }
}
