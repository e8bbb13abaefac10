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
    private readonly PostgresServer server;
    private readonly StoreStatements sql;
    private readonly TimeProvider clock;
    private readonly bool isTwoPhase;
    private readonly Listener listener;
    private readonly Signal added = new(), dueChanged = new();
    private readonly Announcer announcer;
    private readonly ChoreTable leases;
    private readonly PostgresLater later;
    private readonly StoreChores chores;
    private readonly ServiceTransactions services;
    private readonly PostgresRelay relay;
    private readonly PostgresInbox inbox;
    private bool disposed;

    public PostgresStore(PostgresAddress address, TimeProvider clock, ILogger? logger = null)
    {
        server = new PostgresServer(address, clock, logger);
        sql = new StoreStatements(server);
        MostConnections = new NpgsqlConnectionStringBuilder(server.ConnectionString).MaxPoolSize;
        this.clock = clock;
        isTwoPhase = address.IsTwoPhase;
        listener = new Listener(server, server.Channel("outbox"), Heard, Connected, logger);
        announcer = new Announcer(server, (trip, _) => trip.Add(sql.WakeRelay, static _ => { }));
        services = new ServiceTransactions(server);
        relay = new PostgresRelay(
            server, listener, added, new Clearing(server, "courier.outbox", logger), clock);
        inbox = new PostgresInbox(server, sql, services, address.Isolation, clock);
        chores = new StoreChores(server, sql);
        later = new PostgresLater(this, dueChanged, clock);
        Tables = new PostgresTables(
            server, cancel => StoreTables.Schema.PrepareAsync(server, create: false, cancel), this);
        leases = new ChoreTable(Tables, "courier.store_chore");
    }

    public string Engine => PostgresEngine.Name;

    public string DisplayName => server.DisplayName;

    public ILaterPort Later => later;

    public ITables Tables { get; }

    public int? MostConnections { get; }

    internal PostgresServer Server => server;

    internal ServiceTransactions Services => services;

    /// <summary>Whether the service's transactions may be prepared for a two-phase commit: they cannot tell then.
    /// </summary>
    internal bool IsTwoPhase => isTwoPhase;

    public string ConnectionString => server.ConnectionString;

    public string OutboxTable => $"{server.SchemaName}.outbox";

    public Task PrepareAsync(bool create, CancellationToken cancellationToken) =>
        StoreTables.Schema.PrepareAsync(server, create, cancellationToken);

    public async Task<DbConnection> OpenConnectionAsync(CancellationToken cancellationToken) =>
        await server.OpenForServiceAsync(cancellationToken).ConfigureAwait(false);
    public Task AdoptAsync(DbConnection connection, CancellationToken cancellationToken) =>
        services.AdoptAsync(connection, cancellationToken);

    public Task CommitAsync(DbTransaction transaction, CancellationToken cancellationToken) =>
        AddAndCommitAsync(transaction, [], cancellationToken);

    public Task AddAsync(
        DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) =>
        services.JoinAsync(
            transaction, AddTo(new RoundTrip(), events), "add an event to the outbox of", cancellationToken);

    public async Task AddAndCommitAsync(
        DbTransaction transaction, IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
    {
        var connection = await services.AdoptedAsync(transaction, cancellationToken).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.AddedNotCommitted);
        await services.CommitAsync(connection, AddTo(new RoundTrip(), events), cancellationToken).ConfigureAwait(false);
    }
    public Task<long?> LeadAsync(string name, TimeSpan lease, CancellationToken cancellationToken) =>
        relay.LeadAsync(name, lease, cancellationToken);

    public Task ResignAsync(long term, CancellationToken cancellationToken) =>
        relay.ResignAsync(term, cancellationToken);

    public Task<OutboxBatch> ReadOutboxAsync(int limit, CancellationToken cancellationToken) =>
        relay.ReadOutboxAsync(limit, cancellationToken);

    public Task<OutboxBatch> ReadOnAsync(
        IReadOnlyList<OutboxRow> underWay, int limit, CancellationToken cancellationToken) =>
        relay.ReadOnAsync(underWay, limit, cancellationToken);

    public Task<bool> MarkAsync(long term, OutboxMarks marks, CancellationToken cancellationToken) =>
        relay.MarkAsync(term, marks, cancellationToken);

    public async Task<IDirectWay?> FindDirectWayAsync(IBroker broker, CancellationToken cancellationToken) =>
        await DirectWay.FindAsync(relay, broker, cancellationToken).ConfigureAwait(false);

    public Task<IReadOnlySet<string>> ReadHeldKeysAsync(
        IReadOnlyCollection<string> keys, CancellationToken cancellationToken) =>
        relay.ReadHeldKeysAsync(keys, cancellationToken);

    public Task<StoreMemory?> ReadConfirmedAsync(long term, CancellationToken cancellationToken) =>
        relay.ReadConfirmedAsync(term, cancellationToken);

    public Task<long?> RaiseTermAsync(long term, long above, CancellationToken cancellationToken) =>
        relay.RaiseTermAsync(term, above, cancellationToken);

    public Task AcceptBrokerAsync(bool asNewStore, CancellationToken cancellationToken) =>
        relay.AcceptBrokerAsync(asNewStore, cancellationToken);

    public Task RecordRelayErrorAsync(long term, string? error, CancellationToken cancellationToken) =>
        relay.RecordRelayErrorAsync(term, error, cancellationToken);

    public Task WaitForOutboxAsync(TimeSpan limit, CancellationToken cancellationToken) =>
        relay.WaitForOutboxAsync(limit, cancellationToken);

    public void WakeRelay() => announcer.Announce(0);
    public Task<IInboxScope?> BeginHandlingAsync(string queue, IReadOnlyList<InboxEvent> events, IUnitOfWork? work,
        CancellationToken cancellationToken) => inbox.BeginHandlingAsync(queue, events, work, cancellationToken);

    public Task<IReadOnlyList<bool>> LookIntoInboxAsync(
        string queue, IReadOnlyList<EventKey> events, bool willHandle, CancellationToken cancellationToken) =>
        inbox.LookIntoInboxAsync(queue, events, willHandle, cancellationToken);

    public Task<IReadOnlyList<InboxAnswer>> AbsorbHandledAsync(
        string queue, IReadOnlyList<InboxEvent> events, CancellationToken cancellationToken) =>
        inbox.AbsorbHandledAsync(queue, events, cancellationToken);

    public bool IsTransient(DbException exception) => PostgresServer.IsTransient(exception);

    public async Task<OutboxFigures> ReadOutboxFiguresAsync(CancellationToken cancellationToken)
    {
        var figures = new OutboxFigures(0, 0, 0, null, null, null);
        await ReadAsync(sql.Figures, Read, cancellationToken, server.Now, Parameter.Of(OutboxCount.Fresh + 1),
            Parameter.Of(OutboxCount.Kept + 1), Parameter.Of(OutboxCount.Later)).ConfigureAwait(false);
        await ReadAsync(sql.Leftovers, ReadLeftovers, cancellationToken).ConfigureAwait(false);
        return figures with { Pause = await new RelayPauseTable(Tables).ReadAsync(cancellationToken)
            .ConfigureAwait(false) };

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
    private void Heard(string news) => (news == LaterStatements.News ? dueChanged : added).Raise();

    /// <summary>What was told meanwhile was missed.</summary>
    private void Connected()
    {
        relay.SaysNothing();
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
        if (statements.Due is { } due && later.IsSoon(DueTime.At(due))) later.AddNews(trip);
        if (statements.AddsEvents && (!inService || !isTwoPhase)) trip.Add(sql.WakeRelay, static _ => { });
    }

    /// <summary>The relay is woken with the commit.</summary>
    internal RoundTrip AddWake(RoundTrip trip) => isTwoPhase ? trip : trip.Add(sql.WakeRelay, static _ => { });

    private async Task ReadAsync(string statement, Action<NpgsqlDataReader> row, CancellationToken cancellationToken,
        params NpgsqlParameter[] parameters)
    {
        await StoreTables.Schema.PrepareAsync(server, create: false, cancellationToken).ConfigureAwait(false);
        await server.RunAsync("read", new RoundTrip().Add(statement, row, parameters), cancellationToken,
            TimeSpan.FromSeconds(30)).ConfigureAwait(false);
    }
}
