using System.Data;
using System.Data.Common;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>The events that have been handled, in a service's own database.</summary>
/// <param name="server">Where.</param>
/// <param name="sql">What is said to it.</param>
/// <param name="services">The service's transactions.</param>
/// <param name="isolation">Of the transactions in which events are handled.</param>
internal sealed class PostgresInbox(
    PostgresServer server, StoreStatements sql, ServiceTransactions services, IsolationLevel isolation)
{
    private readonly StoreStatements sql = sql;
    private readonly ServiceTransactions services = services;

    public async Task<IInboxScope?> BeginHandlingAsync(
        string queue, IReadOnlyList<InboxEvent> events, IUnitOfWork? work, CancellationToken cancellationToken)
    {
        var own = work ?? new OwnWork(server, services);
        try
        {
            var transaction = await own.BeginAsync(isolation, cancellationToken).ConfigureAwait(false);
            var rows = 0;
            var (sources, ids, hashes) = (
                new string[events.Count], new string[events.Count], new long?[events.Count]);
            for (var i = 0; i < ids.Length; i++) (sources[i], ids[i], hashes[i]) = events[i];
            await services.RunAsync(
                services.ConnectionOf(transaction),
                new RoundTrip()
                    .Add(sql.AddToInbox, _ => rows++, server.Now, Parameter.Of(queue), Parameter.Of(sources),
                    Parameter.Of(ids), Parameter.Of(hashes)),
                "handle an event in", cancellationToken).ConfigureAwait(false);
            if (rows == events.Count) return new InboxScope(this, own, transaction, queue);
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

    private static (string[] Sources, string[] Ids) Split(IReadOnlyList<EventKey> events) =>
        ([.. events.Select(e => e.Source)], [.. events.Select(e => e.Id)]);

    /// <summary>A transaction on a connection that is the service's for as long as it handles an event.</summary>
    private sealed class OwnWork(PostgresServer server, ServiceTransactions services) : IUnitOfWork
    {
        private NpgsqlConnection? connection;
        private NpgsqlTransaction? transaction;

        public async Task<DbTransaction> BeginAsync(IsolationLevel isolation, CancellationToken cancellationToken)
        {
            connection = await server.OpenForServiceAsync(cancellationToken).ConfigureAwait(false);
            return transaction = await connection.BeginTransactionAsync(isolation, cancellationToken)
                .ConfigureAwait(false);
        }

        public Task SaveAsync(CancellationToken cancellationToken) => Task.CompletedTask;

        public Task CommitAsync(CancellationToken cancellationToken) =>
            services.CommitAsync(connection!, new RoundTrip(), cancellationToken);

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

    private sealed class InboxScope(PostgresInbox inbox, IUnitOfWork work, DbTransaction transaction, string queue)
        : IInboxScope
    {
        private bool ended;

        public DbTransaction Transaction => transaction;

        public async Task CommitAsync(IReadOnlyList<EventKey> except, CancellationToken cancellationToken)
        {
            if (ServiceTransactions.IsOver((NpgsqlTransaction)transaction))
                throw new CourierException(
                    "the receiver has ended the transaction of its delivery itself; leave the commit to the library, "
                    + "and throw to roll back");
            var trip = new RoundTrip();
            foreach (var (source, id) in except)
                trip.Add(inbox.sql.TakeFromInbox, Parameter.Of(queue), Parameter.Of(source), Parameter.Of(id));
            // Another's commit is a commit alone, which would not say that a statement has failed before it.
            if (work is not OwnWork) trip.Add("SELECT 1", static _ => { });
            if (trip.Count > 0)
                await inbox.services.RunAsync(
                    inbox.services.ConnectionOf(transaction), trip, "handle an event in", cancellationToken)
                    .ConfigureAwait(false);
            await inbox.services.CommittingAsync(() => work.CommitAsync(cancellationToken)).ConfigureAwait(false);
        }

        public async ValueTask DisposeAsync()
        {
            if (!Interlocked.Exchange(ref ended, true)) await work.EndAsync().ConfigureAwait(false);
        }
    }
}
