using System.Data;
using System.Data.Common;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>The events that have been handled, in the service's own file.</summary>
internal sealed class SqliteInbox(SqliteFile file, FileClock time, StoreWriter writer, TimeProvider clock) : IDisposable
{
    private readonly SqliteFile file = file;
    private readonly StoreWriter writer = writer;
    private readonly Turns turns = writer.Turns;
    private readonly InboxOrigins origins = new(clock);
    private readonly Lock looking = new();
    private InboxReader? reader;
    private FileIdentity? opened;

    public async Task<IInboxScope?> BeginHandlingAsync(
        string queue, IReadOnlyList<InboxEvent> events, IUnitOfWork? work, CancellationToken cancellationToken)
    {
        turns.RefuseInside(WriteFlow.Current);
        time.Load();
        var keys = origins.KeysOf(queue, events);
        var unnamed = origins.Unnamed(queue, events, static e => e.Source);
        await turns.TakeAsync(cancellationToken).ConfigureAwait(false);
        WriteFlow.Current?.Open(turns);
        StoreConnection.IsInHandling = true;
        var own = work ?? new OwnWork(writer);
        try
        {
            turns.IsReaching = true;
            var transaction = await own.BeginAsync(IsolationLevel.Unspecified, cancellationToken).ConfigureAwait(false);
            var service = writer.On(transaction);
            var isNew = AddToInbox(service, keys, events, cancellationToken);
            if (isNew && unnamed.Count > 0) service.NameSources(queue, unnamed, time.Now);
            turns.IsReaching = false;
            if (isNew) return new InboxScope(this, own, transaction, service, queue, unnamed);
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

    private bool AddToInbox(ServiceConnection service, InboxKey[] keys, IReadOnlyList<InboxEvent> events,
        CancellationToken cancellationToken)
    {
        using var ending = Patience.Until(cancellationToken);
        return service.AddToInbox(keys, events, time.Now);
    }

    public Task<IReadOnlyList<bool>> LookIntoInboxAsync(string queue, IReadOnlyList<EventKey> events) =>
        Task.FromResult<IReadOnlyList<bool>>(Look(queue, events));

    public async Task<IReadOnlyList<InboxAnswer>> AbsorbHandledAsync(
        string queue, IReadOnlyList<InboxEvent> events, CancellationToken cancellationToken)
    {
        var handled = Look(queue, [.. events.Select(e => new EventKey(e.Source, e.Id))]);
        return !handled.Contains(true) ? new InboxAnswer[handled.Length]
            : await writer.TakeTurnAsync(
                s => s.CountCopies(origins.KeysOf(queue, events), events, handled, time.Now), cancellationToken)
                .ConfigureAwait(false);
    }

    /// <summary>Nearly always none has been handled. To see that, nobody's commit is waited for.</summary>
    private bool[] Look(string queue, IReadOnlyList<EventKey> events) =>
        turns.TryTake() ? writer.InTurn(s => s.LookIntoInbox(origins, queue, events), CancellationToken.None)
            : LookBeside(queue, events);

    /// <summary>On a connection of its own, while another has the turn.</summary>
    private bool[] LookBeside(string queue, IReadOnlyList<EventKey> events)
    {
        lock (looking)
        {
            try
            {
                if (file.Identity != opened)
                {
                    reader?.Dispose();
                    reader = null;
                }
                opened = file.Identity;
                reader ??= new InboxReader(file.Open(), origins);
                return reader.Look(queue, events);
            }
            catch (Exception e)
            {
                reader?.Dispose();
                reader = null;
                throw e is SqliteException ? file.Problem(e, "look into the inbox of") : e;
            }
        }
    }

    private async Task EndTurnAsync(IUnitOfWork work, WriteFlow? flow)
    {
        await work.EndAsync().ConfigureAwait(false);
        flow?.Close();
        turns.Give();
    }

    public void Dispose()
    {
        lock (looking) reader?.Dispose();
    }

    /// <summary>Transactions on the store's connection, for as long as the turn is held.</summary>
    private sealed class OwnWork(StoreWriter writer) : IUnitOfWork
    {
        private SqliteTransaction? transaction;

        // The first statement takes the write lock, and waits for it if another process has it.
        public Task<DbTransaction> BeginAsync(IsolationLevel isolation, CancellationToken cancellationToken) =>
            Task.FromResult<DbTransaction>(
                transaction = writer.Statements().Connection.BeginTransaction(deferred: true));

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
                writer.Close();
            }
            return Task.CompletedTask;
        }
    }

    private sealed class InboxScope(SqliteInbox inbox, IUnitOfWork work, DbTransaction transaction,
        ServiceConnection service, string queue, IReadOnlyCollection<InboxOrigins.Origin> unnamed) : IInboxScope
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
                service.TakeFromInbox(except.Select(e => inbox.origins.KeyOf(queue, e.Source, e.Id)));
                await work.CommitAsync(cancellationToken).ConfigureAwait(false);
                inbox.origins.AreNamed(unnamed);
            }
            catch (SqliteException e)
            {
                throw inbox.file.Problem(e, "commit to");
            }
        }

        public async ValueTask DisposeAsync()
        {
            if (Interlocked.Exchange(ref ended, true)) return;
            await inbox.EndTurnAsync(work, flow).ConfigureAwait(false);
        }
    }
}
