using System.Collections.Concurrent;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Tables;
using GentleCourier.Watching;
using Microsoft.Extensions.Logging;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>A broker in a database that services share.</summary>
internal sealed class PostgresBroker
    : IBroker, IBrokerReports, IDeadLetters, IHousekeeping, IWorkerRegister, ITakeOver, IStamps, IExaminable, IRecount
{
    /// <summary>How long it may take to publish a batch.</summary>
    public static readonly TimeSpan PublishLimit = TimeSpan.FromSeconds(30);

    private readonly PostgresServer server;
    private readonly BrokerStatements sql;
    private readonly KeyOrderStatements ofKeys;
    private readonly BrokerTopology topology;
    private readonly BrokerReports reports;
    private readonly BrokerLetters letters;
    private readonly TakingOver takingOver;
    private readonly Recounting recounting;
    private readonly ChoreTable chores;
    private readonly LetterTable reading;
    private readonly QueueTable looking;
    private readonly InstructionTable instructions;
    private readonly QueueWatch watch;
    private readonly Announcer announcer;
    private readonly Clearing clearing;
    private readonly ConcurrentDictionary<int, Signal> changes = new();
    private readonly ConcurrentDictionary<int, QueuePlace> places = new();
    private readonly TimeProvider clock;
    private Routes? routes;
    private bool prepared;
    private BrokerServices? services;
    private bool disposed;

    public PostgresBroker(PostgresAddress address, TimeProvider clock, ILogger? logger = null)
    {
        this.clock = clock;
        server = new PostgresServer(address, clock, logger);
        sql = new BrokerStatements(server);
        ofKeys = new KeyOrderStatements(server);
        topology = new BrokerTopology(server, sql);
        var reporting = new ReportStatements(server);
        reports = new BrokerReports(server, reporting, clock);
        letters = new BrokerLetters(server, topology);
        takingOver = new TakingOver(server);
        recounting = new Recounting(server, sql, reporting);
        var tables = new PostgresTables(server, EnsurePreparedAsync);
        chores = new ChoreTable(tables, "courier.broker_chore");
        reading = new LetterTable(tables);
        looking = new QueueTable(tables, ReportStatements.Look);
        watch = new QueueWatch(server, sql, Changed, PlaceOf, clock, logger);
        instructions = new InstructionTable(tables, watch.ByHand, AnnounceByHandAsync, Listen, clock, MissingAsync);
        announcer = new Announcer(server, Saying);
        clearing = new Clearing(server, "courier.copy", logger);
    }

    public string DisplayName => server.DisplayName;

    public BrokerAbilities Abilities => BrokerAbilities.All;

    public BrokerServices Services => services ??= new()
    {
        Reports = this, DeadLetters = this, Housekeeping = this, Register = this, TakeOver = this, Stamps = this,
        Examination = this, Recount = this, Database = this, Instructions = instructions,
    };

    public async Task PrepareAsync(Topology wanted, bool create, CancellationToken cancellationToken)
    {
        if (wanted.Queues.FirstOrDefault(queue => !Names.IsQueue(queue)) is { } wrong)
            throw new CourierException($"'{wrong}' is not a queue's name: {Names.QueueRule}");
        await BrokerTables.Schema.PrepareAsync(server, create, cancellationToken).ConfigureAwait(false);
        prepared = true;
        await topology.PrepareAsync(wanted, create, cancellationToken).ConfigureAwait(false);
    }

    public async Task<Topology> ReadTopologyAsync(CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        return await topology.ReadAsync(cancellationToken).ConfigureAwait(false);
    }

    public Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) =>
        PublishAsync(events, null, cancellationToken);

    Task<IReadOnlyList<PublishResult>> IStamps.PublishAsync(
        IReadOnlyList<EncodedEvent> events, Stamping stamping, CancellationToken cancellationToken) =>
        PublishAsync(events, stamping, cancellationToken);

    public async Task<Stamped> ReadLastAsync(string store, CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        var (generation, last) = ("", default(Stamp));
        await server.RunAsync(
            "look for the last publish in",
            new RoundTrip().Add(sql.FirstStamp, Parameter.Of(store)).Add(sql.LastStamp, Read, Parameter.Of(store)),
            cancellationToken).ConfigureAwait(false);
        await server.RunAsync(
            "clear stamps of",
            new RoundTrip().NeedNotSurvive().Add(
                sql.ClearStamps, Parameter.Of(store), Parameter.Of(last.Term), Parameter.Of(last.Number)),
            cancellationToken).ConfigureAwait(false);
        return new(generation, server.Place, last);

        void Read(NpgsqlDataReader row) =>
            (generation, last) = (row.GetString(0), new(row.GetInt64(1), row.GetInt64(2)));
    }

    private async Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, Stamping? stamping, CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        for (var tried = (Routes?)null; ;)
        {
            var known = routes ??= await topology.ReadRoutesAsync(cancellationToken).ConfigureAwait(false);
            if (tried is not null && stamping is { } stamp
                && (known.Generation != stamp.Generation || known.Version == tried.Version))
                throw new StampGoneException(DisplayName);
            var plan = Routing.Deal(events, known.Queues, DisplayName);
            int[] queues = [.. plan.Copies.Select(copy => (int)copy.Queue).Distinct()];
            var trip = Publishing(events, plan, known, stamping);
            // The first after a pause is announced with its own commit, which has others that announce wait for the
            // disk; under load that is done apart, and once for many.
            var atOnce = queues.Length > 0 && announcer.HasRested;
            if (atOnce) Saying(trip, queues);
            try
            {
                FaultPoint.Pass(FaultPoint.WrittenNotCommitted);
                await server.RunAsync("publish to", trip, cancellationToken, PublishLimit).ConfigureAwait(false);
                FaultPoint.Pass(FaultPoint.CommittedNotConfirmed);
                if (atOnce) Announced(queues);
                else Announce(queues);
                return plan.Results;
            }
            catch (CourierException e)
                when (e.InnerException is PostgresException { SqlState: BrokerStatements.TopologyChanged })
            {
                (tried, routes) = (known, null);
            }
        }
    }

    private RoundTrip Publishing(
        IReadOnlyList<EncodedEvent> events, Routing.Plan plan, Routes known, Stamping? stamping)
    {
        var trip = new RoundTrip();
        // First, since it has another relay of the store wait.
        if (stamping is var (store, _, before, with))
        {
            trip.Add(
                sql.Stamp, Parameter.Of(store), Parameter.Of(before.Term), Parameter.Of(before.Number),
                Parameter.Of(with.Term), Parameter.Of(with.Number));
        }
        if (plan.Copies.Count > 0)
        {
            AddCopies(trip, events, plan, known.AnyInKeyOrder);
            var counts = plan.Copies.CountBy(copy => (int)copy.Queue).ToArray();
            trip.Add(sql.CountAdded, Parameter.Of(Array.ConvertAll(counts, c => c.Key)),
                Parameter.Of(Array.ConvertAll(counts, c => (long)c.Value)));
        }
        return trip.Add(
            sql.CheckTopology, static _ => { }, Parameter.Of(known.Version),
            Parameter.Of(stamping?.Generation ?? known.Generation));
    }

    private void AddCopies(RoundTrip trip, IReadOnlyList<EncodedEvent> events, Routing.Plan plan, bool withKeys)
    {
        var taken = Enumerable.Range(0, events.Count).Where(i => plan.Results[i].Fate == PublishFate.Taken).ToArray();
        NpgsqlParameter[] each =
            [Parameter.Of(Array.ConvertAll(taken, i => events[i].Json)),
            Parameter.Of(Array.ConvertAll(taken, i => events[i].OutboxWait))];
        if (!withKeys && plan.Copies.Count == taken.Length)
        {
            trip.Add(
                sql.AddCopiesTo,
                [server.Now, Parameter.Of(plan.Copies.ConvertAll(copy => (int)copy.Queue).ToArray()), .. each]);
            return;
        }
        var types = Parameter.Of(Array.ConvertAll(taken, i => (string?)events[i].Type));
        if (!withKeys) trip.Add(sql.AddCopies, [server.Now, types, .. each]);
        else
            trip.Add(
                sql.AddCopiesWithKeys,
                [server.Now, types, .. each, Parameter.Of(Array.ConvertAll(taken, i => events[i].PartitionKey))]);
    }

    public async Task<IReceivingLink> OpenLinkAsync(
        string queue, string worker, TimeSpan lease, CancellationToken cancellationToken)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(lease, TimeSpan.FromSeconds(1));
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        var id = await topology.IdOfAsync(queue, cancellationToken).ConfigureAwait(false);
        var (inKeyOrder, place) = (false, 0L);
        await server.RunAsync(
            "read",
            new RoundTrip().Add(sql.IsInKeyOrder, row => inKeyOrder = row.GetBoolean(0), Parameter.Of(id))
                .Add(sql.Place, row => place = row.GetInt64(0), Parameter.Of(id)),
            cancellationToken).ConfigureAwait(false);
        PlaceOf(id).BeginAt(place);
        return new PostgresLink(this, sql, ofKeys, id, inKeyOrder, worker, lease);
    }

    public async Task<BrokerFigures> ReadFiguresAsync(CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        var standing = await instructions.ReadAsync(-1, cancellationToken).ConfigureAwait(false);
        return standing!.Under(await reports.FiguresAsync(cancellationToken).ConfigureAwait(false));
    }

    public async Task<QueueLook> LookAsync(
        string queue, int limit, string? beyond, CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        return await looking.ReadAsync(queue, limit, beyond, cancellationToken).ConfigureAwait(false)
            ?? throw await MissingAsync(queue, cancellationToken).ConfigureAwait(false);
    }

    async Task<IReadOnlyList<DeadLetter>> IDeadLetters.ReadAsync(
        string? queue, int limit, string? beyond, bool oldestFirst, CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        long? id = queue is null ? null : await topology.IdOfAsync(queue, cancellationToken).ConfigureAwait(false);
        return await reading.ReadAsync(id, limit, beyond, oldestFirst, cancellationToken).ConfigureAwait(false);
    }

    Task<DeadLetter?> IDeadLetters.FindAsync(string id, CancellationToken cancellationToken) =>
        reading.FindAsync(id, cancellationToken);

    async Task<IReadOnlyList<bool>> IDeadLetters.SendBackAsync(
        IReadOnlyList<LetterReturn> sent, CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        var (went, touched) = await letters.SendBackAsync(sent, clock.GetUtcNow(), cancellationToken)
            .ConfigureAwait(false);
        Announce(touched);
        return went;
    }

    async Task<IReadOnlyList<bool>> IDeadLetters.DiscardAsync(
        IReadOnlyList<string> ids, CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        return await letters.DiscardAsync(ids, cancellationToken).ConfigureAwait(false);
    }

    public async Task<IReadOnlyList<string?>> TakeOverAsync(
        string queue, string worker, IReadOnlyList<TakenOver> events, CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        var id = await topology.IdOfAsync(queue, cancellationToken).ConfigureAwait(false);
        var taken = await takingOver.RunAsync(id, worker, events, cancellationToken).ConfigureAwait(false);
        Announce([id]);
        return taken;
    }

    public async Task CountAsync(string queue, long accepted, long? waiting, CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        var id = await topology.IdOfAsync(queue, cancellationToken).ConfigureAwait(false);
        await server.RunAsync(
            "count in",
            new RoundTrip().NeedNotSurvive().Add(
                sql.CountElsewhere, Parameter.Of(id), Parameter.Of(accepted), Parameter.Of(waiting)),
            cancellationToken).ConfigureAwait(false);
    }

    public async Task<long> EstimateRowsAsync(CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        return await recounting.EstimateRowsAsync(cancellationToken).ConfigureAwait(false);
    }

    public async Task<IReadOnlyList<Recounted>> RecountAsync(TimeSpan within, CancellationToken cancellationToken)
    {
        await EnsurePreparedAsync(cancellationToken).ConfigureAwait(false);
        return await recounting.RunAsync(within, cancellationToken).ConfigureAwait(false);
    }

    Task<bool> IHousekeeping.TakeAsync(
        Chore chore, string keeper, TimeSpan lease, TimeSpan every, CancellationToken cancellationToken) =>
        chores.TakeAsync(chore, keeper, lease, every, cancellationToken);

    Task<ChoreStep> IHousekeeping.DoAsync(Chore chore, string? from, CancellationToken cancellationToken) =>
        chore is { Kind: ChoreKind.DeadLetters, Queue: { } queue }
        ? letters.ClearOldAsync(queue, chore.Keep, cancellationToken)
        : throw new ArgumentException($"a broker does not do {chore.Name}", nameof(chore));

    Task IHousekeeping.EndAsync(Chore chore, string keeper, bool isDone, CancellationToken cancellationToken) =>
        chores.EndAsync(chore, keeper, isDone, cancellationToken);

    public Task BeatAsync(WorkerFigures worker, TimeSpan validFor, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(worker);
        return reports.BeatAsync(worker, validFor, cancellationToken);
    }

    public Task LeaveAsync(string id, CancellationToken cancellationToken) =>
        reports.LeaveAsync(id, cancellationToken);

    public IAsyncEnumerable<Check> ExamineAsync(CancellationToken cancellationToken) =>
        Examination.OfAsync(server, BrokerTables.Schema, cancellationToken);

    public async ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref disposed, true)) return;
        await watch.DisposeAsync().ConfigureAwait(false);
        await announcer.DisposeAsync().ConfigureAwait(false);
        await server.DisposeAsync().ConfigureAwait(false);
    }

    /// <summary>Raised when a queue may have something that it had not before.</summary>
    internal Signal Changed(int queue) => changes.GetOrAdd(queue, static _ => new Signal());

    /// <summary>Up to where a queue is known to be empty.</summary>
    internal QueuePlace PlaceOf(int queue) => places.GetOrAdd(queue, static (_, clock) => new QueuePlace(clock), clock);

    internal QueueWatch Watch => watch;

    internal PostgresServer Server => server;

    internal TimeProvider Clock => clock;

    /// <summary>Tells receivers of this process at once, and all others soon, that queues have changed.</summary>
    internal void Announce(IEnumerable<int> queues)
    {
        foreach (var queue in queues)
        {
            Changed(queue).Raise();
            announcer.Announce(queue);
        }
    }

    private async Task<CourierException> MissingAsync(string queue, CancellationToken cancellationToken) =>
        BrokerProblems.Missing(
            DisplayName, [queue], [], (await ReadTopologyAsync(cancellationToken).ConfigureAwait(false)).Queues);

    private IDisposable? Listen(bool isKeen)
    {
        watch.Start();
        return null;
    }

    private async Task AnnounceByHandAsync()
    {
        watch.Ordered();
        try
        {
            await server.RunAsync(
                "announce a change in", new RoundTrip().NeedNotSurvive().Add(sql.AnnounceByHand, static _ => { }),
                CancellationToken.None).ConfigureAwait(false);
        }
        catch (CourierException)
        {
            // Whoever has something in hand looks by itself, a little later.
        }
    }

    private RoundTrip Saying(RoundTrip trip, int[] queues) =>
        trip.Add(sql.Announce, static _ => { }, Parameter.Of(queues));

    /// <summary>Tells receivers of this process; all others have been told.</summary>
    internal void Announced(IEnumerable<int> queues)
    {
        announcer.Announced();
        foreach (var queue in queues) Changed(queue).Raise();
    }

    /// <summary>So many copies have left their queues.</summary>
    internal void CopiesGone(int count) => clearing.Gone(count);

    /// <summary>Checks once that the database has a broker, so that the hot paths need not.</summary>
    private async Task EnsurePreparedAsync(CancellationToken cancellationToken)
    {
        if (prepared) return;
        await BrokerTables.Schema.PrepareAsync(server, create: false, cancellationToken).ConfigureAwait(false);
        prepared = true;
    }
}
