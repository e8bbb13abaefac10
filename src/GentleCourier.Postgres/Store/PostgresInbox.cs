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
/// <param name="clock">By which names are written again.</param>
internal sealed class PostgresInbox(PostgresServer server, StoreStatements sql, ServiceTransactions services,
    IsolationLevel isolation, TimeProvider clock)
{
    private readonly InboxOrigins origins = new(clock);
    private readonly StoreStatements sql = sql;
    private readonly ServiceTransactions services = services;

    public async Task<IInboxScope?> BeginHandlingAsync(
        string queue, IReadOnlyList<InboxEvent> events, IUnitOfWork? work, CancellationToken cancellationToken)
    {
        var keys = origins.KeysOf(queue, events);
        await NameAsync(queue, origins.Unnamed(queue, events, static e => e.Source), cancellationToken)
            .ConfigureAwait(false);
        var own = work ?? new OwnWork(server, services);
        try
        {
            var transaction = await own.BeginAsync(isolation, cancellationToken).ConfigureAwait(false);
            var rows = 0;
            await services.RunAsync(
                services.ConnectionOf(transaction), Adding(keys, events, () => rows++), "handle an event in",
                cancellationToken).ConfigureAwait(false);
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
        string queue, IReadOnlyList<EventKey> events, bool willHandle, CancellationToken cancellationToken)
    {
        var handled = new bool[events.Count];
        var (sources, ids) = (new long[events.Count], new Guid[events.Count]);
        for (var i = 0; i < ids.Length; i++)
        {
            var key = origins.KeyOf(queue, events[i].Source, events[i].Id);
            (sources[i], ids[i]) = (key.Origin, key.Id);
        }
        var trip = new RoundTrip().Add(
            sql.LookIntoInbox, row => handled[row.GetInt32(0) - 1] = true, Parameter.Of(sources), Parameter.Of(ids));
        // Once for all that came together, and not each before its own transaction.
        var unnamed = willHandle ? origins.Unnamed(queue, events, static e => e.Source) : [];
        if (unnamed.Count > 0) Name(trip, queue, unnamed);
        await server.RunAsync("look into the inbox of", trip, cancellationToken).ConfigureAwait(false);
        origins.AreNamed(unnamed);
        return handled;
    }

    public async Task<IReadOnlyList<InboxAnswer>> AbsorbHandledAsync(
        string queue, IReadOnlyList<InboxEvent> events, CancellationToken cancellationToken)
    {
        var handled = await LookIntoInboxAsync(
            queue, [.. events.Select(e => new EventKey(e.Source, e.Id))], false, cancellationToken)
            .ConfigureAwait(false);
        var answers = handled.Select(was => new InboxAnswer(was)).ToArray();
        if (!handled.Contains(true)) return answers;
        var trip = new RoundTrip();
        for (var i = 0; i < answers.Length; i++)
        {
            var (at, (source, id, hash)) = (i, events[i]);
            if (!handled[i]) continue;
            var key = origins.KeyOf(queue, source, id);
            trip.Add(
                sql.CountCopy,
                row => answers[at] = new(true, row.IsDBNull(0) ? null : row.GetInt32(0)),
                server.Now, Parameter.Of(key.Origin), Parameter.Of(key.Id), Parameter.Of(hash));
        }
        await server.RunAsync("count a copy in the inbox of", trip, cancellationToken).ConfigureAwait(false);
        return answers;
    }

    /// <summary>
    /// Before the transaction, and committed alone: two that name one source would wait for each other's handlers.
    /// </summary>
    private async Task NameAsync(
        string queue, IReadOnlyCollection<InboxOrigins.Origin> unnamed, CancellationToken cancellationToken)
    {
        if (unnamed.Count == 0) return;
        await server.RunAsync(
            "name a source in the inbox of",
            Name(new RoundTrip(), queue, unnamed), cancellationToken).ConfigureAwait(false);
        origins.AreNamed(unnamed);
    }

    private RoundTrip Name(RoundTrip trip, string queue, IReadOnlyCollection<InboxOrigins.Origin> unnamed) => trip.Add(
        sql.NameSources, server.Now, Parameter.Of(unnamed.Select(o => o.Number).ToArray()), Parameter.Of(queue),
        Parameter.Of(unnamed.Select(o => (string?)o.Source).ToArray()));

    private RoundTrip Adding(InboxKey[] keys, IReadOnlyList<InboxEvent> events, Action added)
    {
        if (keys is [var one])
            return new RoundTrip().Add(
                sql.AddOneToInbox, _ => added(), server.Now, Parameter.Of(one.Origin), Parameter.Of(one.Id),
                Parameter.Of(events[0].Hash), Parameter.Of(one.Name));
        var (sources, ids, hashes, names) = (
            new long[keys.Length], new Guid[keys.Length], new int?[keys.Length], new string?[keys.Length]);
        for (var i = 0; i < keys.Length; i++)
            (sources[i], ids[i], hashes[i], names[i]) = (keys[i].Origin, keys[i].Id, events[i].Hash, keys[i].Name);
        return new RoundTrip().Add(
            sql.AddToInbox, _ => added(), server.Now, Parameter.Of(sources), Parameter.Of(ids), Parameter.Of(hashes),
            Parameter.Of(names));
    }

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
            {
                var key = inbox.origins.KeyOf(queue, source, id);
                trip.Add(inbox.sql.TakeFromInbox, Parameter.Of(key.Origin), Parameter.Of(key.Id));
            }
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
