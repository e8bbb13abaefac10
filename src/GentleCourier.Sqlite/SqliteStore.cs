using System.Data.Common;
using System.Runtime.CompilerServices;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Watching;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>
/// A store in the service's own file. The library's own writes, and the transactions in which events are handled, take turns
/// on one connection: SQLite has one writer, and waiting in line is fairer and faster than running against its lock.
/// </summary>
internal sealed class SqliteStore : IStore
{
    private static readonly TimeSpan LongestFarewell = TimeSpan.FromSeconds(2);

    private readonly SqliteFile file;
    private readonly TimeProvider clock;
    private readonly CommitWatch watch;
    private readonly Signal committed = new();
    private readonly SemaphoreSlim turn = new(1, 1);
    private readonly ConditionalWeakTable<SqliteConnection, OutboxInsert> inserts = [];
    private readonly Lock looking = new();
    private StoreStatements? statements;
    private InboxReader? inboxReader;
    private bool disposed;

    public SqliteStore(SqliteFile file, TimeProvider clock)
    {
        this.file = file;
        this.clock = clock;
        watch = new CommitWatch(file, LookAround);
    }

    public string DisplayName => file.DisplayName;

    private long Now => clock.GetUtcNow().ToUnixTimeMilliseconds();

    public Task PrepareAsync(bool create, CancellationToken cancellationToken) => Task.Run(
        () =>
        {
            try
            {
                if (create) file.Create();
                using var connection = file.OpenPooled();
                if (create) Schema.Store.Apply(connection, file);
                else Schema.Store.Check(connection, file);
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
        return Task.FromResult<DbConnection>(file.OpenPooled());
    }

    public Task AddAsync(DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        cancellationToken.ThrowIfCancellationRequested();
        if (transaction is not SqliteTransaction { Connection: { } connection })
        {
            throw new CourierException(transaction.Connection is null
                ? "events cannot be added: the transaction is over; add them before the commit"
                : $"events cannot be added: {transaction.GetType().Name} is not a transaction of {DisplayName}; open the connection with IStore.OpenConnectionAsync");
        }
        try
        {
            var insert = inserts.GetValue(connection, c => new OutboxInsert(c, file));
            foreach (var @event in events) insert.Run(@event, Now);
            FaultPoint.Pass(FaultPoint.AddedNotCommitted);
            return Task.CompletedTask;
        }
        catch (SqliteException e)
        {
            throw file.Problem(e, "add an event to the outbox of");
        }
    }

    public async Task AddAndCommitAsync(DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
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
        TakeTurnAsync(s => s.Lead(relay, Now, (long)lease.TotalMilliseconds), cancellationToken);

    public Task ResignAsync(long term, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.Resign(term), cancellationToken);

    public Task<OutboxBatch> ReadOutboxAsync(int limit, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.ReadOutbox(limit, Now), cancellationToken);

    public Task<bool> MarkAsync(long term, IReadOnlyList<RelayMark> marks, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.Mark(term, marks, Now), cancellationToken);

    public Task RecordRelayErrorAsync(long term, string? error, CancellationToken cancellationToken) =>
        TakeTurnAsync(s => s.RecordError(term, error), cancellationToken);

    public async Task WaitForOutboxAsync(TimeSpan limit, CancellationToken cancellationToken)
    {
        var next = committed.Next;
        watch.Enter();
        try
        {
            if (await TakeTurnAsync(s => s.HasFresh, cancellationToken).ConfigureAwait(false)) return;
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

    public async Task<IHandling?> BeginHandlingAsync(string queue, IReadOnlyList<EventKey> events, CancellationToken cancellationToken)
    {
        await turn.WaitAsync(cancellationToken).ConfigureAwait(false);
        SqliteTransaction? transaction = null;
        try
        {
            var writes = Statements();
            // The first statement takes the write lock, and waits for it if another process has it.
            transaction = writes.Connection.BeginTransaction(deferred: true);
            if (writes.AddToInbox(queue, events, Now)) return new Handling(this, transaction, queue);
            EndTurn(transaction);
            return null;
        }
        catch (Exception e)
        {
            EndTurn(transaction);
            throw e is SqliteException ? file.Problem(e, "handle an event in") : e;
        }
    }

    public async Task<IReadOnlyList<bool>> AbsorbHandledAsync(string queue, IReadOnlyList<EventKey> events, CancellationToken cancellationToken)
    {
        // Nearly always none has been handled. To see that, nobody's commit is waited for.
        var handled = turn.Wait(0, CancellationToken.None) ? InTurn(s => s.LookIntoInbox(queue, events)) : LookBeside(queue, events);
        if (handled.Contains(true)) await TakeTurnAsync(s => s.CountCopies(queue, events, handled), cancellationToken).ConfigureAwait(false);
        return handled;
    }

    /// <summary>On a connection of its own, while another has the turn.</summary>
    private bool[] LookBeside(string queue, IReadOnlyList<EventKey> events)
    {
        lock (looking)
        {
            try
            {
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
        ReadAsync(connection => StoreReports.Outbox(connection, Now), cancellationToken);

    public Task<IReadOnlyList<HeldEvent>> ReadHeldAsync(int limit, CancellationToken cancellationToken) =>
        ReadAsync(connection => StoreReports.Held(connection, limit), cancellationToken);

    public Task<IReadOnlyList<InboxEntry>> ReadInboxAsync(string queue, CancellationToken cancellationToken) =>
        ReadAsync(connection => StoreReports.Inbox(connection, queue), cancellationToken);

    public async ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref disposed, true)) return;
        watch.Dispose();
        // A receiver that does not end may hold the turn, and would keep the process from ending: its transaction is rolled
        // back when that happens.
        if (await turn.WaitAsync(LongestFarewell).ConfigureAwait(false)) Close();
        lock (looking) inboxReader?.Dispose();
        file.ClosePool();
    }

    private async Task<T> TakeTurnAsync<T>(Func<StoreStatements, T> write, CancellationToken cancellationToken)
    {
        await turn.WaitAsync(cancellationToken).ConfigureAwait(false);
        return InTurn(write);
    }

    /// <summary>Once the turn has been taken.</summary>
    private T InTurn<T>(Func<StoreStatements, T> write)
    {
        try
        {
            return write(Statements());
        }
        catch (Exception e)
        {
            // A connection in doubt is not used again.
            Close();
            throw e is SqliteException ? file.Problem(e, "use") : e;
        }
        finally
        {
            turn.Release();
        }
    }

    private StoreStatements Statements()
    {
        if (statements is { Connection.State: not System.Data.ConnectionState.Open }) Close();
        return statements ??= new StoreStatements(file.Open());
    }

    private void Close()
    {
        statements?.Dispose();
        statements = null;
    }

    /// <summary>Ends a handling without a commit, whatever state its transaction is in.</summary>
    private void EndTurn(SqliteTransaction? transaction)
    {
        try
        {
            transaction?.Dispose();
        }
        catch (Exception)
        {
            Close();
        }
        turn.Release();
    }

    /// <summary>After another connection's commit, and at every tick: wakes the relay if there is something for it.</summary>
    private void LookAround(SqliteConnection connection)
    {
        using var fresh = new Statement(connection, "SELECT 1 FROM courier_outbox LIMIT 1");
        if (fresh.Scalar() is not null) committed.Raise();
    }

    private Task<T> ReadAsync<T>(Func<SqliteConnection, T> read, CancellationToken cancellationToken) => Task.Run(
        () =>
        {
            try
            {
                using var connection = file.OpenPooled();
                Schema.Store.Check(connection, file);
                return read(connection);
            }
            catch (SqliteException e)
            {
                throw file.Problem(e, "read");
            }
        },
        cancellationToken);

    private sealed class Handling(SqliteStore store, SqliteTransaction transaction, string queue) : IHandling
    {
        private bool ended;

        public DbTransaction Transaction => transaction;

        public Task CommitAsync(IReadOnlyList<EventKey> except, CancellationToken cancellationToken)
        {
            if (transaction.Connection is null)
                throw new CourierException("the receiver has ended the transaction of its delivery itself; leave the commit to the library, and throw to roll back");
            try
            {
                if (except.Count > 0) store.Statements().TakeFromInbox(queue, except);
                transaction.Commit();
                return Task.CompletedTask;
            }
            catch (SqliteException e)
            {
                throw store.file.Problem(e, "commit to");
            }
        }

        public ValueTask DisposeAsync()
        {
            if (!ended)
            {
                ended = true;
                store.EndTurn(transaction);
            }
            return ValueTask.CompletedTask;
        }
    }

    /// <summary>The statement that adds to the outbox, kept for as long as the caller's connection is open.</summary>
    private sealed class OutboxInsert
    {
        private readonly SqliteConnection connection;
        private Statement? statement;

        public OutboxInsert(SqliteConnection connection, SqliteFile file)
        {
            if (System.IO.Path.GetFullPath(connection.DataSource) != file.Path)
            {
                throw new CourierException(
                    $"events cannot be added: the transaction belongs to {connection.DataSource}, and the outbox is in {file.DisplayName}; "
                    + "both must be one database, or they would not commit together");
            }
            this.connection = connection;
            connection.StateChange += (_, change) =>
            {
                if (change.CurrentState == System.Data.ConnectionState.Open) return;
                statement?.Dispose();
                statement = null;
            };
        }

        public void Run(EncodedEvent @event, long now)
        {
            statement ??= new Statement(connection, "INSERT INTO courier_outbox (event_id, type, partition_key, added, event) VALUES (?, ?, ?, ?, ?)");
            statement.Bind(1, @event.Id).Bind(2, @event.Type).Bind(3, @event.PartitionKey).Bind(4, now).Bind(5, @event.Json.Span).Run();
        }
    }
}
