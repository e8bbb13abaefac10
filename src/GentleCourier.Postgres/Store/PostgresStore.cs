using System.Collections.Concurrent;
using System.Data;
using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.Tables;
using GentleCourier.Watching;
using Microsoft.Extensions.Logging;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>A store in the service's own database.</summary>
internal sealed class PostgresStore : IStorePort, IExaminable
{
    private const long NobodysTerm = -1;

    private readonly PostgresServer server;
    private readonly StoreStatements sql;
    private readonly TimeProvider clock;
    private readonly IsolationLevel isolation;
    private readonly bool isTwoPhase;
    private readonly Listener listener;
    private readonly Signal added = new(), dueChanged = new();
    private readonly Announcer announcer;
    private readonly Clearing clearing;
    private readonly ChoreTable leases;
    private readonly PostgresLater later;
    private readonly StoreChores chores;
    private readonly ConcurrentDictionary<string, bool> adopted = new(StringComparer.Ordinal);
    // The term in which this store's relay leads, and whether the table says that it waits: then publishers tell it of
    // events. It still says so for a moment when the relay is awake.
    private long leads = NobodysTerm;
    private volatile bool saysThatItWaits, isAwake;
    private Position position;
    private bool disposed;

    public PostgresStore(PostgresAddress address, TimeProvider clock, ILogger? logger = null)
    {
        server = new PostgresServer(address, clock);
        sql = new StoreStatements(server);
        this.clock = clock;
        isolation = address.Isolation;
        isTwoPhase = address.IsTwoPhase;
        listener = new Listener(server, server.Channel("outbox"), Heard, Connected, logger);
        announcer = new Announcer(server, (trip, _) => trip.Add(sql.WakeRelay, static _ => { }));
        clearing = new Clearing(server, "courier.outbox", logger);
        chores = new StoreChores(server, sql);
        later = new PostgresLater(this, dueChanged, clock);
        Tables = new PostgresTables(
            server, cancel => StoreTables.Schema.PrepareAsync(server, create: false, cancel), this);
        leases = new ChoreTable(Tables, "courier.store_chore");
        position = new Position(0, clock);
    }

    public string Engine => PostgresEngine.Name;

    public string DisplayName => server.DisplayName;

    public ILaterPort Later => later;

    public ITables Tables { get; }

    internal PostgresServer Server => server;

    /// <summary>Whether the service's transactions may be prepared for a two-phase commit: they cannot tell then.
    /// </summary>
    internal bool IsTwoPhase => isTwoPhase;

    /// <summary>So many events have left the outbox.</summary>
    internal void EventsGone(int count) => clearing.Gone(count);

    public string ConnectionString => server.ConnectionString;

    public string OutboxTable => $"{server.SchemaName}.outbox";

    public Task PrepareAsync(bool create, CancellationToken cancellationToken) =>
        StoreTables.Schema.PrepareAsync(server, create, cancellationToken);

    public async Task<DbConnection> OpenConnectionAsync(CancellationToken cancellationToken) =>
        await server.OpenForServiceAsync(cancellationToken).ConfigureAwait(false);

    /// <summary>Databases are told apart by asking them, once for each way to reach one: names say nothing.</summary>
    public async Task AdoptAsync(DbConnection connection, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(connection);
        var service = Check(connection);
        if (adopted.ContainsKey(service.ConnectionString)) return;
        var theirs = "";
        await RunAsync(service, PostgresServer.AskIdentity(found => theirs = found), "look into", cancellationToken)
            .ConfigureAwait(false);
        var ours = await server.IdentityAsync(cancellationToken).ConfigureAwait(false);
        if (ours != theirs)
        {
            throw new CourierException(
                $"the service writes to the database '{service.Database}' on {service.DataSource}, and its store is "
                + $"{DisplayName}, another one of that name; "
                + "both must be one database, or their changes would not commit together");
        }
        adopted.TryAdd(service.ConnectionString, true);
    }

    public Task CommitAsync(DbTransaction transaction, CancellationToken cancellationToken) =>
        AddAndCommitAsync(transaction, [], cancellationToken);

    public Task AddAsync(
        DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) =>
        RunInServiceAsync(
            transaction, AddTo(new RoundTrip(), events), "add an event to the outbox of", cancellationToken);

    public async Task AddAndCommitAsync(
        DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
    {
        var connection = await AdoptedAsync(transaction, cancellationToken).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.AddedNotCommitted);
        await CommitAsync(connection, AddTo(new RoundTrip(), events), cancellationToken).ConfigureAwait(false);
    }

    public async Task<long?> LeadAsync(string relay, TimeSpan lease, CancellationToken cancellationToken)
    {
        (long Term, long Place)? led = null;
        var place = Parameter.Of(Volatile.Read(ref position).Place);
        await server.RunAsync(
            "lead the relays of",
            new RoundTrip().Add(
                sql.Lead, row => led = (row.GetInt64(0), row.GetInt64(1)), server.Now, Parameter.Of(relay),
                Parameter.Of(lease), place),
            cancellationToken).ConfigureAwait(false);
        var term = led?.Term ?? NobodysTerm;
        if (Volatile.Read(ref leads) == term) return led?.Term;
        if (led is { } begun)
        {
            await server.RunAsync(
                "look for the keys of", new RoundTrip().Add(sql.FindKeys, Parameter.Of(term), server.Now),
                cancellationToken, PostgresBroker.PublishLimit).ConfigureAwait(false);
            Volatile.Write(ref position, new Position(begun.Place, clock));
        }
        saysThatItWaits = false;
        Volatile.Write(ref leads, term);
        return led?.Term;
    }

    public Task ResignAsync(long term, CancellationToken cancellationToken) =>
        server.RunAsync("resign from leading the relays of", new RoundTrip().Add(sql.Resign, Parameter.Of(term)),
            cancellationToken);

    public async Task<OutboxBatch> ReadOutboxAsync(int limit, CancellationToken cancellationToken)
    {
        var (reading, term) = (Begin(), Volatile.Read(ref leads));
        var (held, fresh) = (new OutboxRows(reading), new OutboxRows(reading));
        TimeSpan? dueIn = null;
        await RunAwakeAsync(
            "read the outbox of",
            trip => reading.Add(trip, t => t
                .Add(sql.DropKeys, Parameter.Of(term))
                .Add(sql.HoldFollowers, Parameter.Of(term), Parameter.Of(reading.From), Parameter.Of(limit))
                .Add(sql.Due, held.TakeHeld, server.Now, Parameter.Of(limit))
                .Add(sql.DueKeys, held.TakeHeld, server.Now, Parameter.Of(limit))
                .Add(sql.Fresh, fresh.Take, Parameter.Of(reading.From), Parameter.Of(limit), server.Now)
                .Add(sql.NextDue, row => dueIn = row.Span(0), server.Now)),
            PostgresServer.Limit, cancellationToken).ConfigureAwait(false);
        var isFull = fresh.Rows.Count == limit || held.Bytes + fresh.Bytes >= OutboxRows.Many;
        reading.End(fresh.Rows is [.., var last] ? last.Row : null, isFull);
        return new OutboxBatch([.. held.Rows, .. fresh.Rows], dueIn, isFull);
    }

    public async Task<OutboxBatch> ReadOnAsync(
        IReadOnlyList<OutboxRow> underWay, int limit, CancellationToken cancellationToken)
    {
        var reading = Begin();
        var fresh = new OutboxRows(reading);
        await server.RunAsync(
            "read the outbox of",
            reading.Add(new RoundTrip(), trip => trip.Add(
                sql.FreshBehind, fresh.Take, Parameter.Of(reading.From), Parameter.Of(underWay[^1].Row),
                Parameter.Of(underWay.LongCount(row => !row.IsHeld)), Parameter.Of(limit), server.Now)),
            cancellationToken).ConfigureAwait(false);
        var isFull = fresh.Rows.Count == limit || fresh.Bytes >= OutboxRows.Many;
        // Where nothing was read, nothing is known of what lies before it either.
        if (fresh.Rows is [.., var last]) reading.End(last.Row, isFull);
        return new OutboxBatch(fresh.Rows, null, isFull);
    }

    /// <summary>Begins to read the outbox, from its place on, or all of it where it is time for that.</summary>
    internal Reading Begin() => new(Volatile.Read(ref position), sql, clock);

    public async Task<bool> MarkAsync(long term, OutboxMarks marks, CancellationToken cancellationToken)
    {
        // A mark that a crash of the server undoes has its events published again, as one does that was never made.
        var trip = new RoundTrip().NeedNotSurvive();
        var isTerm = false;
        trip.Add(sql.IsTerm, row => isTerm = row.GetBoolean(0), Parameter.Of(term));
        Forget(sql.ForgetFresh, marks.Forgotten.Where(row => !row.IsHeld));
        Forget(sql.ForgetHeld, marks.Forgotten.Where(row => row.IsHeld));
        Hold(sql.HoldFresh, marks.Held.Where(h => h.Row > 0));
        Hold(sql.HoldAgain, marks.Held.Where(h => h.Row < 0));
        if (marks.Parts.Count > 0)
        {
            var parts = marks.Parts.ToArray();
            trip.Add(
                sql.HoldParts, Parameter.Of(term), Parameter.Of(Array.ConvertAll(parts, p => p.Row)),
                Parameter.Of(Array.ConvertAll(parts, p => p.Key)),
                Parameter.Of(Array.ConvertAll(parts, p => (string?)p.Address)),
                Parameter.Of(Array.ConvertAll(parts, p => p.Attempts)),
                Parameter.Of(Array.ConvertAll(parts, p => p.After)),
                Parameter.Plain(Array.ConvertAll(parts, p => (string?)p.Reason)), server.Now);
        }
        if (marks.Keys.Count > 0)
        {
            trip.Add(
                sql.HoldKeys, Parameter.Of(term), Parameter.Of(marks.Keys.Select(k => (string?)k.Key).ToArray()),
                Parameter.Of(marks.Keys.Select(k => (TimeSpan?)k.After).ToArray()), server.Now);
        }
        if (marks.Freed.Count > 0)
            trip.Add(sql.FreeKeys, Parameter.Of(term), Parameter.Of(marks.Freed.ToArray<string?>()), server.Now);
        if (marks.By is { } by) Confirm(trip, term, by);
        await server.RunAsync("mark what has been relayed from", trip, cancellationToken).ConfigureAwait(false);
        EventsGone(marks.Forgotten.Count + marks.Held.Count + marks.Parts.Count);
        return isTerm;

        void Forget(string statement, IEnumerable<OutboxRow> taken)
        {
            foreach (var rows in taken.GroupBy(row => row.Started, row => Math.Abs(row.Row)))
                trip.Add(statement, Parameter.Of([.. rows]), Parameter.Of(rows.Key));
        }

        void Hold(string statement, IEnumerable<HeldRow> held)
        {
            var rows = held.ToArray();
            if (rows.Length == 0) return;
            trip.Add(
                statement, Parameter.Of(term), Parameter.Of(Array.ConvertAll(rows, h => Math.Abs(h.Row))),
                Parameter.Of(Array.ConvertAll(rows, h => h.Attempts)),
                Parameter.Of(Array.ConvertAll(rows, h => h.After)),
                Parameter.Plain(Array.ConvertAll(rows, h => (string?)h.Reason)), server.Now);
        }
    }

    public async Task<IDirectWay?> FindDirectWayAsync(IBroker broker, CancellationToken cancellationToken) =>
        await DirectWay.FindAsync(this, broker, cancellationToken).ConfigureAwait(false);

    public async Task<IReadOnlySet<string>> ReadHeldKeysAsync(
        IReadOnlyCollection<string> keys, CancellationToken cancellationToken)
    {
        var held = new HashSet<string>(StringComparer.Ordinal);
        await server.RunAsync(
            "read",
            new RoundTrip().Add(sql.HeldKeys, row => held.Add(row.GetString(0)), Parameter.Of(keys.ToArray<string?>())),
            cancellationToken).ConfigureAwait(false);
        return held;
    }

    private void Confirm(RoundTrip trip, long term, Confirmation confirmation)
    {
        var ((generation, address, last), before) = confirmation;
        trip.Add(
            sql.Confirm, Parameter.Of(term), Parameter.Of(generation), Parameter.Of(address), Parameter.Of(last.Term),
            Parameter.Of(last.Number));
        if (before is { } gone)
        {
            trip.Add(
                sql.ForgetConfirmed, Parameter.Of(term), Parameter.Of(generation), Parameter.Of(gone.Term),
                Parameter.Of(gone.Number));
        }
    }

    public async Task<StoreMemory?> ReadConfirmedAsync(long term, CancellationToken cancellationToken)
    {
        var (identity, confirmed) = ((string?)null, new List<Confirmed>());
        await server.RunAsync(
            "read what brokers have confirmed to",
            new RoundTrip()
                .Add(sql.Identify, row => identity = row.GetString(0), Parameter.Of(term),
                    Parameter.Of(Guid.NewGuid().ToString("N")))
                .Add(sql.Confirmed, row => confirmed.Add(new(
                    row.GetString(0), row.GetString(1), new(row.GetInt64(2), row.GetInt64(3))))),
            cancellationToken).ConfigureAwait(false);
        if (identity is null) return null;
        var older = new RoundTrip().NeedNotSurvive();
        foreach (var (generation, _, last) in confirmed)
            older.Add(
                sql.ClearConfirmed, Parameter.Of(generation), Parameter.Of(last.Term), Parameter.Of(last.Number));
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
                sql.RaiseTerm, row => raised = row.GetInt64(0), Parameter.Of(term), Parameter.Of(above)),
            cancellationToken).ConfigureAwait(false);
        if (raised is { } now) Interlocked.CompareExchange(ref leads, now, term);
        return raised;
    }

    public Task AcceptBrokerAsync(bool asNewStore, CancellationToken cancellationToken) =>
        server.RunAsync(
            "accept the broker in",
            new RoundTrip().Add(sql.ForgetBrokers).Add(sql.EndTerm, Parameter.Of(asNewStore)), cancellationToken);

    public Task RecordRelayErrorAsync(long term, string? error, CancellationToken cancellationToken) =>
        server.RunAsync("write down an error of the relay in",
            new RoundTrip().Add(sql.RecordError, Parameter.Of(term), Parameter.Plain(error)), cancellationToken);

    public void WakeRelay() => announcer.Announce(0);

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
        for (var pause = TimeSpan.FromMilliseconds(1); ; pause *= 1.5)
        {
            var (hasSome, oldest, following) = (false, 0L, 0L);
            await server.RunAsync(
                "look into the outbox of",
                new RoundTrip().Add(
                    sql.Look,
                    row => (hasSome, oldest, following) = (row.GetBoolean(0), row.GetInt64(1), row.GetInt64(2)),
                    Parameter.Of(Volatile.Read(ref position).Place)),
                cancellationToken).ConfigureAwait(false);
            underWay = Math.Min(underWay, following);
            var left = limit - clock.GetElapsedTime(began);
            if (hasSome || left <= TimeSpan.Zero) break;
            var allTell = oldest >= underWay;
            try
            {
                await next.WaitAsync(allTell || left < pause ? left : pause, clock, cancellationToken)
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
        isAwake = true;
    }

    private async Task SayThatItWaitsAsync(CancellationToken cancellationToken)
    {
        await server.RunAsync(
            "wait for the outbox of", new RoundTrip().NeedNotSurvive()
                .Add(sql.SetWaits, Parameter.Of(true), Parameter.Of(Volatile.Read(ref leads))), cancellationToken)
            .ConfigureAwait(false);
        (saysThatItWaits, isAwake) = (true, false);
    }

    /// <summary>
    /// Runs what a relay does that has woken, and says along with it that it no longer waits: a round trip for that
    /// alone would be one more until the first event is on its way. None of it need survive a crash of the server: it
    /// only moves rows.
    /// </summary>
    internal async Task RunAwakeAsync(
        string tried, Func<RoundTrip, RoundTrip> statements, TimeSpan limit, CancellationToken cancellationToken)
    {
        var trip = statements(new RoundTrip().NeedNotSurvive());
        var says = saysThatItWaits && isAwake;
        // Last, since it locks the row of the lead, which is kept beside this, however long it takes.
        if (says) trip.Add(sql.SetWaits, Parameter.Of(false), Parameter.Of(Volatile.Read(ref leads)));
        await server.RunAsync(tried, trip, cancellationToken, limit).ConfigureAwait(false);
        if (says) saysThatItWaits = false;
    }

    public async Task<IHandling?> BeginHandlingAsync(
        string queue, IReadOnlyList<InboxEvent> events, IUnitOfWork? work, CancellationToken cancellationToken)
    {
        var own = work ?? new OwnWork(this);
        try
        {
            var transaction = await own.BeginAsync(isolation, cancellationToken).ConfigureAwait(false);
            var rows = 0;
            var (sources, ids, hashes) = (
                new string[events.Count], new string[events.Count], new long?[events.Count]);
            for (var i = 0; i < ids.Length; i++) (sources[i], ids[i], hashes[i]) = events[i];
            await RunAsync(
                ConnectionOf(transaction),
                new RoundTrip()
                    .Add(sql.AddToInbox, _ => rows++, server.Now, Parameter.Of(queue), Parameter.Of(sources),
                    Parameter.Of(ids), Parameter.Of(hashes)),
                "handle an event in", cancellationToken).ConfigureAwait(false);
            if (rows == events.Count) return new Handling(this, own, transaction, queue);
        }
        catch
        {
            await own.EndAsync().ConfigureAwait(false);
            throw;
        }
        await own.EndAsync().ConfigureAwait(false);
        return null;
    }

    public async Task<IReadOnlyList<bool>> LookIntoInboxAsync(
        string queue, IReadOnlyList<EventKey> events, CancellationToken cancellationToken)
    {
        var handled = new bool[events.Count];
        var (sources, ids) = Split(events);
        await server.RunAsync(
            "look into the inbox of",
            new RoundTrip()
                .Add(sql.LookIntoInbox, row => handled[row.GetInt32(0) - 1] = true, Parameter.Of(queue),
                Parameter.Of(sources), Parameter.Of(ids)),
            cancellationToken).ConfigureAwait(false);
        return handled;
    }

    public async Task<IReadOnlyList<InboxAnswer>> AbsorbHandledAsync(
        string queue, IReadOnlyList<InboxEvent> events, CancellationToken cancellationToken)
    {
        var handled = await LookIntoInboxAsync(
            queue, [.. events.Select(e => new EventKey(e.Source, e.Id))], cancellationToken).ConfigureAwait(false);
        var answers = handled.Select(was => new InboxAnswer(was)).ToArray();
        if (!handled.Contains(true)) return answers;
        var trip = new RoundTrip();
        for (var i = 0; i < answers.Length; i++)
        {
            var (at, (source, id, hash)) = (i, events[i]);
            if (!handled[i]) continue;
            trip.Add(
                sql.CountCopy,
                row => answers[at] = new(true, row.IsDBNull(0) ? null : row.GetInt64(0)),
                server.Now, Parameter.Of(queue), Parameter.Of(source), Parameter.Of(id), Parameter.Of(hash));
        }
        await server.RunAsync("count a copy in the inbox of", trip, cancellationToken).ConfigureAwait(false);
        return answers;
    }

    public bool IsTransient(DbException exception) => PostgresServer.IsTransient(exception);

    public async Task<OutboxFigures> ReadOutboxFiguresAsync(CancellationToken cancellationToken)
    {
        var figures = new OutboxFigures(0, 0, 0, null, null, null);
        await ReadAsync(sql.Figures, Read, cancellationToken, server.Now, Parameter.Of(OutboxCount.Fresh + 1),
            Parameter.Of(OutboxCount.Kept + 1), Parameter.Of(OutboxCount.Later)).ConfigureAwait(false);
        await ReadAsync(sql.Leftovers, ReadLeftovers, cancellationToken).ConfigureAwait(false);
        return figures;

        void Read(NpgsqlDataReader row) => figures = OutboxCount.Figures(
            row.GetInt64(0), row.IsDBNull(1) ? null : row.GetInt64(1), row.GetInt64(2), row.GetInt64(3), row.Age(4),
            row.Text(5), row.Text(6)) with
        {
            Later = row.GetInt64(7), NextDueIn = row.Span(8), FormerBrokers = OutboxCount.Former(row.GetInt64(9)),
        };

        void ReadLeftovers(NpgsqlDataReader row) => figures = figures with
        {
            DeadRows = row.IsDBNull(0) ? null : row.GetInt64(0),
            OldestSnapshot = row.Age(1),
            SnapshotHolder = row.Text(2),
        };
    }

    Task<bool> IHousekeeping.TakeAsync(
        Chore chore, string keeper, TimeSpan lease, TimeSpan every, CancellationToken cancellationToken) =>
        leases.TakeAsync(chore, keeper, lease, every, cancellationToken);

    Task<ChoreStep> IHousekeeping.DoAsync(Chore chore, string? from, CancellationToken cancellationToken) =>
        chores.DoAsync(chore, from, cancellationToken);

    Task IHousekeeping.EndAsync(Chore chore, string keeper, bool isDone, CancellationToken cancellationToken) =>
        leases.EndAsync(chore, keeper, isDone, cancellationToken);

    public IAsyncEnumerable<Check> ExamineAsync(CancellationToken cancellationToken) =>
        Examination.OfAsync(server, StoreTables.Schema, cancellationToken);

    public async ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref disposed, true)) return;
        await announcer.DisposeAsync().ConfigureAwait(false);
        await listener.DisposeAsync().ConfigureAwait(false);
        await server.DisposeAsync().ConfigureAwait(false);
    }

    /// <summary>Waits for news on the store's channel.</summary>
    internal async Task WaitForNewsAsync(Task news, TimeSpan limit, CancellationToken cancellationToken)
    {
        listener.Start();
        try
        {
            await news.WaitAsync(limit, clock, cancellationToken).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            // The limit is over: that is what it is for.
        }
    }

    /// <summary>Runs statements in the caller's transaction.</summary>
    internal async Task RunInServiceAsync(
        DbTransaction transaction, RoundTrip trip, string tried, CancellationToken cancellationToken)
    {
        var connection = await AdoptedAsync(transaction, cancellationToken).ConfigureAwait(false);
        await RunOnAsync(connection, trip, tried, cancellationToken).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.AddedNotCommitted);
    }

    /// <summary>The same on a connection of the service's.</summary>
    internal Task RunOnAsync(
        NpgsqlConnection connection, RoundTrip trip, string tried, CancellationToken cancellationToken) =>
        RunAsync(connection, trip, tried, cancellationToken);

    private void Heard(string news) => (news == LaterStatements.News ? dueChanged : added).Raise();

    /// <summary>What was told meanwhile was missed.</summary>
    private void Connected()
    {
        added.Raise();
        dueChanged.Raise();
    }

    private RoundTrip AddTo(RoundTrip trip, IReadOnlyList<EncodedEvent> events)
    {
        if (events.Count == 0) return trip;
        if (events is [var one])
        {
            trip.Add(
                sql.Add, server.Now, Parameter.Of(one.Id), Parameter.Of(one.Type), Parameter.Of(one.PartitionKey),
                Parameter.Of(one.Json));
        }
        else foreach (var part in Budget.Part(events))
        {
            trip.Add(
                sql.AddMany, server.Now, Parameter.Of(Column(part, e => (string?)e.Id)),
                Parameter.Of(Column(part, e => (string?)e.Type)), Parameter.Of(Column(part, e => e.PartitionKey)),
                Parameter.Of(Column(part, e => e.Json)));
        }
        return AddWake(trip);

        static T[] Column<T>(IReadOnlyList<EncodedEvent> part, Func<EncodedEvent, T> value) => [.. part.Select(value)];
    }

    /// <summary>Whoever waits is told with the commit; what is prepared for a two-phase commit cannot tell.</summary>
    internal void AddNews(RoundTrip trip, Statements statements, bool inService)
    {
        if (statements.Due is { } due && later.IsSoon(Due.At(due))) later.AddNews(trip);
        if (statements.AddsEvents && (!inService || !isTwoPhase)) trip.Add(sql.WakeRelay, static _ => { });
    }

    /// <summary>The relay is woken with the commit.</summary>
    internal RoundTrip AddWake(RoundTrip trip) => isTwoPhase ? trip : trip.Add(sql.WakeRelay, static _ => { });

    /// <summary>Runs what is left to do in a transaction, and commits it in the same round trip.</summary>
    private Task CommitAsync(NpgsqlConnection connection, RoundTrip trip, CancellationToken cancellationToken)
    {
        // A transaction in which a statement has failed answers a commit, without an error, by rolling back; another
        // statement it refuses.
        if (trip.Count == 0) trip.Add("SELECT 1", static _ => { });
        trip.Add("COMMIT");
        return CommittingAsync(() => trip.RunAsync(connection, PostgresServer.Limit, cancellationToken));
    }

    private async Task CommittingAsync(Func<Task> commit)
    {
        try
        {
            await commit().ConfigureAwait(false);
        }
        catch (Exception e) when (PostgresServer.IsProblem(e))
        {
            var problem = server.Problem(e, "commit to");
            throw PostgresServer.IsRefusal(e) ? problem : new CourierException(
                $"{problem.Message}; the answer was lost, so it may have been committed all the same: look for what "
                + "was written before you write it again", e) { IsTransient = problem.IsTransient };
        }
    }

    private async Task RunAsync(
        NpgsqlConnection connection, RoundTrip trip, string tried, CancellationToken cancellationToken)
    {
        try
        {
            await trip.RunAsync(connection, PostgresServer.Limit, cancellationToken).ConfigureAwait(false);
        }
        catch (Exception e) when (PostgresServer.IsProblem(e))
        {
            throw server.Problem(e, tried);
        }
    }

    private async Task ReadAsync(string statement, Action<NpgsqlDataReader> row, CancellationToken cancellationToken,
        params NpgsqlParameter[] parameters)
    {
        await StoreTables.Schema.PrepareAsync(server, create: false, cancellationToken).ConfigureAwait(false);
        await server.RunAsync("read", new RoundTrip().Add(statement, row, parameters), cancellationToken,
            TimeSpan.FromSeconds(30)).ConfigureAwait(false);
    }

    /// <summary>The connection of a transaction, which goes to this store's database.</summary>
    private async ValueTask<NpgsqlConnection> AdoptedAsync(
        DbTransaction transaction, CancellationToken cancellationToken)
    {
        var connection = ConnectionOf(transaction);
        await AdoptAsync(connection, cancellationToken).ConfigureAwait(false);
        return connection;
    }

    private NpgsqlConnection ConnectionOf(DbTransaction transaction)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        return transaction is NpgsqlTransaction known && IsOver(known) || transaction.Connection is null
            ? throw new CourierException("events cannot be added: the transaction is over; add them before the commit")
            : Check(transaction.Connection);
    }

    /// <exception cref="CourierException">It goes to another database than the store's.</exception>
    private NpgsqlConnection Check(DbConnection connection)
    {
        if (connection is NpgsqlConnection known && known.Database == server.DatabaseName) return known;
        var where = connection is NpgsqlConnection ? $"the database '{connection.Database}'"
            : $"a {connection.GetType().Name}";
        throw new CourierException(
            $"the service writes to {where}, and its store is {DisplayName}; both must be one database, or their "
            + "changes would not commit together: "
            + "open connections with IStore.OpenConnectionAsync, or by IStore.ConnectionString");
    }

    /// <summary>A statement would be a transaction of its own then. The driver says it only by throwing.</summary>
    private static bool IsOver(NpgsqlTransaction transaction)
    {
        try
        {
            _ = transaction.IsolationLevel;
            return false;
        }
        catch (InvalidOperationException)
        {
            return true;
        }
    }

    private static (string[] Sources, string[] Ids) Split(IReadOnlyList<EventKey> events) =>
        ([.. events.Select(e => e.Source)], [.. events.Select(e => e.Id)]);

    /// <summary>A transaction on a connection that is the service's for as long as it handles an event.</summary>
    private sealed class OwnWork(PostgresStore store) : IUnitOfWork
    {
        private NpgsqlConnection? connection;
        private NpgsqlTransaction? transaction;

        public async Task<DbTransaction> BeginAsync(IsolationLevel isolation, CancellationToken cancellationToken)
        {
            connection = await store.server.OpenForServiceAsync(cancellationToken).ConfigureAwait(false);
            return transaction = await connection.BeginTransactionAsync(isolation, cancellationToken)
                .ConfigureAwait(false);
        }

        public Task SaveAsync(CancellationToken cancellationToken) => Task.CompletedTask;

        public Task CommitAsync(CancellationToken cancellationToken) =>
            store.CommitAsync(connection!, new RoundTrip(), cancellationToken);

        public async Task EndAsync()
        {
            try
            {
                // Without a commit this rolls back.
                if (transaction is not null) await transaction.DisposeAsync().ConfigureAwait(false);
            }
            catch (Exception e) when (PostgresServer.IsProblem(e))
            {
                // The connection is gone, and the server rolls back by itself.
            }
            if (connection is not null) await connection.DisposeAsync().ConfigureAwait(false);
        }
    }

    private sealed class Handling(PostgresStore store, IUnitOfWork work, DbTransaction transaction, string queue)
        : IHandling
    {
        private bool ended;

        public DbTransaction Transaction => transaction;

        public async Task CommitAsync(IReadOnlyList<EventKey> except, CancellationToken cancellationToken)
        {
            if (IsOver((NpgsqlTransaction)transaction))
                throw new CourierException(
                    "the receiver has ended the transaction of its delivery itself; leave the commit to the library, "
                    + "and throw to roll back");
            var trip = new RoundTrip();
            foreach (var (source, id) in except)
                trip.Add(store.sql.TakeFromInbox, Parameter.Of(queue), Parameter.Of(source), Parameter.Of(id));
            // Another's commit is a commit alone, which would not say that a statement has failed before it.
            if (work is not OwnWork) trip.Add("SELECT 1", static _ => { });
            if (trip.Count > 0)
                await store.RunAsync(store.ConnectionOf(transaction), trip, "handle an event in", cancellationToken)
                .ConfigureAwait(false);
            await store.CommittingAsync(() => work.CommitAsync(cancellationToken)).ConfigureAwait(false);
        }

        public async ValueTask DisposeAsync()
        {
            if (!Interlocked.Exchange(ref ended, true)) await work.EndAsync().ConfigureAwait(false);
        }
    }
}
