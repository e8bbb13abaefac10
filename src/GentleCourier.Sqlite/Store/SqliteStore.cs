using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.Tables;
using GentleCourier.Watching;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Sqlite;

/// <summary>A store in the service's own file.</summary>
internal sealed class SqliteStore : IStorePort, IExaminable
{
    private static readonly TimeSpan LongestFarewell = TimeSpan.FromSeconds(2);

    private readonly SqliteFile file;
    private readonly TimeProvider clock;
    private readonly FileClock time;
    private readonly CommitWatch watch;
    private readonly Signal committed = new(), dueChanged = new();
    private readonly SqliteLater later;
    private readonly SqliteTables tables;
    private readonly ChoreTable chores;
    private readonly StoreWriter writer;
    private readonly SqliteInbox inbox;
    private bool disposed;

    public SqliteStore(SqliteFile file, TimeProvider clock, ILogger? logger = null)
    {
        this.file = file;
        this.clock = clock;
        time = new FileClock(file, "courier_store_clock", """
            SELECT max(t) FROM (SELECT until AS t FROM courier_relay UNION ALL SELECT max(max(until, coalesce(done, 0)))
                FROM courier_store_chore
                UNION ALL SELECT added FROM (SELECT added FROM courier_outbox ORDER BY seq DESC LIMIT 1))
            """, clock);
        writer = new StoreWriter(file, time);
        inbox = new SqliteInbox(file, time, writer, clock);
        later = new SqliteLater(this, dueChanged);
        tables = new SqliteTables(
            time, (read, cancel) => ReadAsync(SqliteTables.Calling(read), cancel),
            (write, cancel) => TakeTurnAsync(s => s.InTransaction(SqliteTables.Calling(write)), cancel),
            (transaction, tried, act, cancel) => InServiceAsync(
                transaction, tried, (service, _) => SqliteTables.Calling(act)(service.Connection), cancel));
        chores = new ChoreTable(tables, "courier.store_chore");
        watch = new CommitWatch(file, LookAround, logger);
    }

    public string Engine => SqliteEngine.Name;

    public string DisplayName => file.DisplayName;

    public string ConnectionString => file.ConnectionString;

    public string OutboxTable => "courier_outbox";

    public ILaterPort Later => later;

    public ITables Tables => tables;

    /// <summary>As many as it takes: they take turns in writing.</summary>
    public int? MostConnections => null;

    /// <summary>The time of the file, in Unix milliseconds.</summary>
    internal long Now => time.Now;

    internal FileClock Time => time;

    public Task PrepareAsync(bool create, CancellationToken cancellationToken) => Task.Run(
        () =>
        {
            try
            {
                if (create) file.Create();
                using var connection = file.Open();
                if (create) StoreTables.Schema.Apply(connection, file);
                else StoreTables.Schema.Check(connection, file);
                time.Load();
            }
            catch (SqliteException e)
            {
                throw file.Problem(e, "prepare");
            }
        },
        cancellationToken);

    public Task<DbConnection> OpenConnectionAsync(CancellationToken cancellationToken)
    {
        cancellationToken.ThrowIfCancellationRequested();
        time.Load();
        return Task.FromResult<DbConnection>(file.OpenPooled(
            settings => new StoreConnection(settings, writer.Turns, file)));
    }

    public Task AdoptAsync(DbConnection connection, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(connection);
        file.SetUp(ServiceConnection.Check(connection, file));
        time.Load();
        return Task.CompletedTask;
    }

    public Task CommitAsync(DbTransaction transaction, CancellationToken cancellationToken) =>
        AddAndCommitAsync(transaction, [], cancellationToken);

    public Task AddAsync(
        DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) =>
        InServiceAsync(
            transaction, "add an event to the outbox of",
            (service, now) =>
            {
                foreach (var @event in events) service.AddToOutbox(@event, now);
                return events.Count;
            },
            cancellationToken);

    public async Task AddAndCommitAsync(
        DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
    {
        await AddAsync(transaction, events, cancellationToken).ConfigureAwait(false);
        try
        {
            await transaction.CommitAsync(cancellationToken).ConfigureAwait(false);
        }
        catch (SqliteException e)
        {
            throw file.Problem(e, "commit to");
        }
    }

    public Task<long?> LeadAsync(string relay, TimeSpan lease, CancellationToken cancellationToken) =>
        TakeTurnAsync(
            s => s.Lead(relay, Now, (long)lease.TotalMilliseconds, time.ClockAhead), cancellationToken);

    public Task ResignAsync(long term, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.Resign(term, Now), cancellationToken);

    public Task<OutboxBatch> ReadOutboxAsync(int limit, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.Outbox.Read(limit, Now), cancellationToken);

    public Task<OutboxBatch> ReadOnAsync(
        IReadOnlyList<OutboxRow> underWay, int limit, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.Outbox.ReadOn(underWay, limit, Now), cancellationToken);

    /// <summary>A store and a broker have a file each, or at least a writer each.</summary>
    public Task<IDirectWay?> FindDirectWayAsync(IBroker broker, CancellationToken cancellationToken) =>
        Task.FromResult<IDirectWay?>(null);

    public Task<bool> MarkAsync(long term, OutboxMarks marks, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.Marks.Mark(term, marks, Now), cancellationToken);

    public Task<IReadOnlySet<string>> ReadHeldKeysAsync(
        IReadOnlyCollection<string> keys, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.Outbox.HeldKeysAmong(keys), cancellationToken);

    public Task<StoreMemory?> ReadConfirmedAsync(long term, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.Brokers.Read(term), cancellationToken);

    public Task<long?> RaiseTermAsync(long term, long above, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.Brokers.RaiseTerm(term, above), cancellationToken);

    public Task AcceptBrokerAsync(bool asNewStore, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.InTransaction(_ => s.Brokers.Accept(asNewStore)), cancellationToken);

    public Task RecordRelayErrorAsync(long term, string? error, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.RecordError(term, error), cancellationToken);

    public void WakeRelay()
    {
        // Whoever commits has changed the file, and that is what the relay watches.
    }

    public Task WaitForOutboxAsync(TimeSpan limit, CancellationToken cancellationToken) =>
        WaitForCommitAsync(committed, static s => s.HasFresh, limit, cancellationToken);

    /// <summary>Waits for what looking around after a commit may tell; not where it is there already.</summary>
    internal async Task WaitForCommitAsync(
        Signal told, Func<StoreStatements, bool> isThere, TimeSpan limit, CancellationToken cancellationToken)
    {
        var next = told.Next;
        watch.Enter();
        try
        {
            if (await TakeTurnAsync(isThere, cancellationToken).ConfigureAwait(false)) return;
            await next.WaitAsync(limit, clock, cancellationToken).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            // The limit is over: that is what it is for.
        }
        finally
        {
            watch.Leave();
        }
    }

    public Task<IInboxScope?> BeginHandlingAsync(string queue, IReadOnlyList<InboxEvent> events, IUnitOfWork? work,
        CancellationToken cancellationToken) => inbox.BeginHandlingAsync(queue, events, work, cancellationToken);

    public Task<IReadOnlyList<bool>> LookIntoInboxAsync(
        string queue, IReadOnlyList<EventKey> events, bool willHandle, CancellationToken cancellationToken) =>
        inbox.LookIntoInboxAsync(queue, events);

    public Task<IReadOnlyList<InboxAnswer>> AbsorbHandledAsync(
        string queue, IReadOnlyList<InboxEvent> events, CancellationToken cancellationToken) =>
        inbox.AbsorbHandledAsync(queue, events, cancellationToken);

    public async Task<OutboxFigures> ReadOutboxFiguresAsync(CancellationToken cancellationToken) =>
        await ReadAsync(connection => StoreReports.Outbox(connection, time), cancellationToken).ConfigureAwait(false)
            with { Pause = await new RelayPauseTable(Tables).ReadAsync(cancellationToken).ConfigureAwait(false) };

    public bool IsTransient(DbException exception) => SqliteFile.IsTransient(exception);

    Task<bool> IHousekeeping.TakeAsync(
        Chore chore, string keeper, TimeSpan lease, TimeSpan every, CancellationToken cancellationToken) =>
        chores.TakeAsync(chore, keeper, lease, every, cancellationToken);

    async Task<ChoreStep> IHousekeeping.DoAsync(Chore chore, string? from, CancellationToken cancellationToken)
    {
        var before = Now - (long)chore.Keep.TotalMilliseconds;
        // What is old is looked for beside the writers; only what is found takes a turn.
        var old = await ReadAsync(connection => OldRows.Find(connection, chore, from, before), cancellationToken)
            .ConfigureAwait(false);
        var removed = old.Rows.Count == 0 ? 0
            : await TakeTurnAsync(s => old.RemoveBy(s, chore, before), cancellationToken).ConfigureAwait(false);
        return new(old.AreNames ? 0 : removed, old.Next);
    }

    Task IHousekeeping.EndAsync(Chore chore, string keeper, bool isDone, CancellationToken cancellationToken) =>
        chores.EndAsync(chore, keeper, isDone, cancellationToken);

    public IAsyncEnumerable<Check> ExamineAsync(CancellationToken cancellationToken) =>
        Examination.OfAsync(file, StoreTables.Schema, ExamineClock, cancellationToken);

    private Check ExamineClock(SqliteConnection connection)
    {
        time.Load();
        return StoreReports.Examine(StoreReports.Clock(connection, time), clock.GetUtcNow());
    }

    public async ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref disposed, true)) return;
        watch.Dispose();
        // A receiver that does not end may hold the turn, and would keep the process from ending: its transaction is
        // rolled back when that happens.
        if (await writer.Turns.TryTakeAsync(LongestFarewell).ConfigureAwait(false)) writer.Dispose();
        inbox.Dispose();
        file.ClosePool();
    }

    internal Task<T> TakeTurnAsync<T>(Func<StoreStatements, T> write, CancellationToken cancellationToken) =>
        writer.TakeTurnAsync(write, cancellationToken);

    /// <summary>Does something in the caller's transaction.</summary>
    internal Task<T> InServiceAsync<T>(DbTransaction transaction, string tried, Func<ServiceConnection, long, T> act,
        CancellationToken cancellationToken) => writer.InServiceAsync(transaction, tried, act, cancellationToken);

    /// <summary>
    /// After another connection's commit, and at every tick: wakes the relay and its timekeeper if there is something
    /// for them.
    /// </summary>
    private void LookAround(SqliteConnection connection)
    {
        using var look = Statement.On(
            connection, $"SELECT (SELECT 1 FROM courier_outbox LIMIT 1), {SqliteLater.Next}");
        look.Bind(1, later.Except).Step();
        if (look.NullableInt64(0) is not null) committed.Raise();
        later.LookAround(look, 1);
    }

    internal Task<T> ReadAsync<T>(Func<SqliteConnection, T> read, CancellationToken cancellationToken) => Task.Run(
        () =>
        {
            try
            {
                return file.Read(connection =>
                {
                    StoreTables.Schema.Check(connection, file);
                    time.Load();
                    return read(connection);
                });
            }
            catch (SqliteException e)
            {
                throw file.Problem(e, "read");
            }
        },
        cancellationToken);
}
