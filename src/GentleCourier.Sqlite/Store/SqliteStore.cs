using System.Data;
using System.Data.Common;
using System.Runtime.CompilerServices;
using GentleCourier.Engines;
using GentleCourier.Tables;
using GentleCourier.Watching;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Sqlite;

/// <summary>
/// A store in the service's own file. The library's own writes, and the transactions in which events are handled, take
/// turns on one connection: SQLite has one writer, and waiting in line is fairer and faster than running against its
/// lock.
/// </summary>
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
    private readonly Turns turns;
    private readonly ConditionalWeakTable<SqliteConnection, ServiceConnection> services = [];
    private readonly Lock looking = new();
    private StoreStatements? statements;
    private InboxReader? inboxReader;
    private FileIdentity? opened, readerOpened;
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
        later = new SqliteLater(this, dueChanged);
        tables = new SqliteTables(
            time, (read, cancel) => ReadAsync(SqliteTables.Calling(read), cancel),
            (write, cancel) => TakeTurnAsync(s => s.InTransaction(SqliteTables.Calling(write)), cancel),
            (transaction, tried, act, cancel) => InServiceAsync(
                transaction, tried, (service, _) => SqliteTables.Calling(act)(service.Connection), cancel));
        chores = new ChoreTable(tables, "courier.store_chore");
        watch = new CommitWatch(file, LookAround, logger);
        turns = new Turns(file);
    }

    public string Engine => SqliteEngine.Name;

    public string DisplayName => file.DisplayName;

    public string ConnectionString => file.ConnectionString;

    public string OutboxTable => "courier_outbox";

    public ILaterPort Later => later;

    public ITables Tables => tables;

    /// <summary>The time of the file, in Unix milliseconds.</summary>
    internal long Now => time.Now;

    internal FileClock Time => time;

    public Task PrepareAsync(bool create, CancellationToken cancellationToken) => Task.Run(
        () =>
        {
            try
            {
                if (create) file.Create();
                using var connection = file.OpenPooled();
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
            settings => new StoreConnection(settings, turns, file)));
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

    /// <summary>Does something in the caller's transaction.</summary>
    internal Task<T> InServiceAsync<T>(DbTransaction transaction, string tried, Func<ServiceConnection, long, T> act,
        CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        cancellationToken.ThrowIfCancellationRequested();
        if (transaction.Connection is null)
            throw new CourierException("events cannot be added: the transaction is over; add them before the commit");
        var service = On(transaction);
        try
        {
            var result = act(service, Now);
            FaultPoint.Pass(FaultPoint.AddedNotCommitted);
            return Task.FromResult(result);
        }
        catch (SqliteException e)
        {
            throw file.Problem(e, tried);
        }
    }

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
        TakeTurnAsync(s => s.ReadOutbox(limit, Now), cancellationToken);

    public Task<OutboxBatch> ReadOnAsync(
        IReadOnlyList<OutboxRow> underWay, int limit, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.ReadOn(underWay, limit, Now), cancellationToken);

    /// <summary>A store and a broker have a file each, or at least a writer each.</summary>
    public Task<IDirectWay?> FindDirectWayAsync(IBroker broker, CancellationToken cancellationToken) =>
        Task.FromResult<IDirectWay?>(null);

    public Task<bool> MarkAsync(long term, OutboxMarks marks, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.Mark(term, marks, Now), cancellationToken);

    public Task<IReadOnlySet<string>> ReadHeldKeysAsync(
        IReadOnlyCollection<string> keys, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.HeldKeysAmong(keys), cancellationToken);

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

    public async Task<IHandling?> BeginHandlingAsync(
        string queue, IReadOnlyList<InboxEvent> events, IUnitOfWork? work, CancellationToken cancellationToken)
    {
        turns.RefuseInside(WriteFlow.Current);
        time.Load();
        await turns.TakeAsync(cancellationToken).ConfigureAwait(false);
        WriteFlow.Current?.Open(turns);
        StoreConnection.IsInHandling = true;
        var own = work ?? new OwnWork(this);
        try
        {
            turns.IsReaching = true;
            var transaction = await own.BeginAsync(IsolationLevel.Unspecified, cancellationToken).ConfigureAwait(false);
            var service = On(transaction);
            var isNew = AddToInbox(service, queue, events, cancellationToken);
            turns.IsReaching = false;
            if (isNew) return new Handling(this, own, transaction, service, queue);
        }
        catch (Exception e)
        {
            turns.IsReaching = SqliteFile.IsLocked(e);
            await EndTurnAsync(own, WriteFlow.Current).ConfigureAwait(false);
            if (SqliteFile.IsLocked(e)) cancellationToken.ThrowIfCancellationRequested();
            if (e is SqliteException) throw file.Problem(e, "handle an event in");
            throw;
        }
        await EndTurnAsync(own, WriteFlow.Current).ConfigureAwait(false);
        return null;
    }

    private bool AddToInbox(
        ServiceConnection service, string queue, IReadOnlyList<InboxEvent> events, CancellationToken cancellationToken)
    {
        using var ending = Patience.Until(cancellationToken);
        return service.AddToInbox(queue, events, Now);
    }

    public Task<IReadOnlyList<bool>> LookIntoInboxAsync(
        string queue, IReadOnlyList<EventKey> events, CancellationToken cancellationToken) =>
        Task.FromResult<IReadOnlyList<bool>>(Look(queue, events));

    public async Task<IReadOnlyList<InboxAnswer>> AbsorbHandledAsync(
        string queue, IReadOnlyList<InboxEvent> events, CancellationToken cancellationToken)
    {
        var handled = Look(queue, [.. events.Select(e => new EventKey(e.Source, e.Id))]);
        return !handled.Contains(true) ? new InboxAnswer[handled.Length]
            : await TakeTurnAsync(s => s.CountCopies(queue, events, handled, Now), cancellationToken)
                .ConfigureAwait(false);
    }

    /// <summary>Nearly always none has been handled. To see that, nobody's commit is waited for.</summary>
    private bool[] Look(string queue, IReadOnlyList<EventKey> events) =>
        turns.TryTake() ? InTurn(s => s.LookIntoInbox(queue, events), CancellationToken.None)
            : LookBeside(queue, events);

    /// <summary>On a connection of its own, while another has the turn.</summary>
    private bool[] LookBeside(string queue, IReadOnlyList<EventKey> events)
    {
        lock (looking)
        {
            try
            {
                if (file.Identity != readerOpened)
                {
                    inboxReader?.Dispose();
                    inboxReader = null;
                }
                readerOpened = file.Identity;
                inboxReader ??= new InboxReader(file.Open());
                return inboxReader.Look(queue, events);
            }
            catch (Exception e)
            {
                inboxReader?.Dispose();
                inboxReader = null;
                throw e is SqliteException ? file.Problem(e, "look into the inbox of") : e;
            }
        }
    }

    public Task<OutboxFigures> ReadOutboxFiguresAsync(CancellationToken cancellationToken) =>
        ReadAsync(connection => StoreReports.Outbox(connection, time), cancellationToken);

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
        var removed = old.Keys.Count == 0 ? 0
            : await TakeTurnAsync(s => old.RemoveBy(s, chore, before), cancellationToken).ConfigureAwait(false);
        return new(removed, old.Next);
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
        if (await turns.TryTakeAsync(LongestFarewell).ConfigureAwait(false)) Close();
        lock (looking) inboxReader?.Dispose();
        file.ClosePool();
    }

    internal async Task<T> TakeTurnAsync<T>(Func<StoreStatements, T> write, CancellationToken cancellationToken)
    {
        // Before it waits for itself, which would look like somebody else's lock.
        turns.RefuseInside(WriteFlow.Current);
        time.Load();
        await turns.TakeAsync(cancellationToken).ConfigureAwait(false);
        return InTurn(write, cancellationToken);
    }

    /// <summary>Once the turn has been taken.</summary>
    private T InTurn<T>(Func<StoreStatements, T> write, CancellationToken cancellationToken)
    {
        using var ending = Patience.Until(cancellationToken);
        try
        {
            turns.IsReaching = true;
            var result = write(Statements());
            turns.IsReaching = false;
            return result;
        }
        catch (Exception e)
        {
            turns.IsReaching = SqliteFile.IsLocked(e);
            // A connection in doubt is not used again.
            Close();
            if (SqliteFile.IsLocked(e)) cancellationToken.ThrowIfCancellationRequested();
            throw e is SqliteException ? file.Problem(e, "use") : e;
        }
        finally
        {
            turns.Give();
        }
    }

    private StoreStatements Statements()
    {
        if (statements is { Connection.State: not ConnectionState.Open } || file.Identity != opened) Close();
        if (statements is not null) return statements;
        opened = file.Identity;
        return statements = new StoreStatements(file.Open(), time);
    }

    private void Close()
    {
        statements?.Dispose();
        statements = null;
    }

    private ServiceConnection On(DbTransaction transaction) =>
        services.GetValue(transaction.Connection as SqliteConnection ?? ServiceConnection.Check(
            transaction.Connection!, file), c => new ServiceConnection(c, file));

    private async Task EndTurnAsync(IUnitOfWork work, WriteFlow? flow)
    {
        await work.EndAsync().ConfigureAwait(false);
        flow?.Close();
        turns.Give();
    }

    /// <summary>
    /// After another connection's commit, and at every tick: wakes the relay and its timekeeper if there is something
    /// for them.
    /// </summary>
    private void LookAround(SqliteConnection connection)
    {
        using var look = new Statement(
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
                using var connection = file.OpenPooled();
                StoreTables.Schema.Check(connection, file);
                time.Load();
                return read(connection);
            }
            catch (SqliteException e)
            {
                throw file.Problem(e, "read");
            }
        },
        cancellationToken);

    /// <summary>Transactions on the store's connection, for as long as the turn is held.</summary>
    private sealed class OwnWork(SqliteStore store) : IUnitOfWork
    {
        private SqliteTransaction? transaction;

        // The first statement takes the write lock, and waits for it if another process has it.
        public Task<DbTransaction> BeginAsync(IsolationLevel isolation, CancellationToken cancellationToken) =>
            Task.FromResult<DbTransaction>(
                transaction = store.Statements().Connection.BeginTransaction(deferred: true));

        public Task SaveAsync(CancellationToken cancellationToken) => Task.CompletedTask;

        public Task CommitAsync(CancellationToken cancellationToken)
        {
            transaction!.Commit();
            return Task.CompletedTask;
        }

        public Task EndAsync()
        {
            try
            {
                transaction?.Dispose();
            }
            catch (Exception)
            {
                // A connection in doubt is not used again.
                store.Close();
            }
            return Task.CompletedTask;
        }
    }

    private sealed class Handling(SqliteStore store, IUnitOfWork work, DbTransaction transaction,
        ServiceConnection service, string queue) : IHandling
    {
        private readonly WriteFlow? flow = WriteFlow.Current;
        private bool ended;

        public DbTransaction Transaction => transaction;

        public async Task CommitAsync(IReadOnlyList<EventKey> except, CancellationToken cancellationToken)
        {
            if (transaction.Connection is null)
                throw new CourierException(
                    "the receiver has ended the transaction of its delivery itself; leave the commit to the library, "
                    + "and throw to roll back");
            try
            {
                service.TakeFromInbox(queue, except);
                await work.CommitAsync(cancellationToken).ConfigureAwait(false);
            }
            catch (SqliteException e)
            {
                throw store.file.Problem(e, "commit to");
            }
        }

        public async ValueTask DisposeAsync()
        {
            if (Interlocked.Exchange(ref ended, true)) return;
            await store.EndTurnAsync(work, flow).ConfigureAwait(false);
        }
    }
}
