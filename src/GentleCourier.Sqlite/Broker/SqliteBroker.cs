using System.Collections.Concurrent;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Tables;
using GentleCourier.Watching;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;

namespace GentleCourier.Sqlite;

/// <summary>
/// A broker in one file. Writes go through one thread and are grouped; reads have connections of their own.
/// </summary>
internal sealed class SqliteBroker
    : IBroker, IBrokerReports, IDeadLetters, IHousekeeping, IWorkerRegister, ITakeOver, IStamps, IExaminable, IRecount
{
    private readonly SqliteFile file;
    private readonly TimeProvider clock;
    private readonly FileClock time;
    private readonly GroupWriter writer;
    private readonly CommitWatch watch;
    private readonly ConcurrentDictionary<long, Signal> changes = new();
    private readonly HistoryMemory memory;
    private readonly ChoreTable chores;
    private readonly LetterTable letters;
    private readonly QueueTable looking;
    private readonly InstructionTable instructions;
    private readonly Signal byHand = new();
    private long orders;
    private readonly Lock preparing = new();
    private Routes routes = new(0, [], []);
    private bool prepared;
    private BrokerServices? services;
    private bool disposed;

    public SqliteBroker(SqliteFile file, TimeProvider clock, ILogger? logger = null)
    {
        this.file = file;
        this.clock = clock;
        time = new FileClock(file, "courier_broker_clock", """
            SELECT max(t) FROM (SELECT max(seen) AS t FROM courier_worker UNION ALL SELECT max(at) FROM courier_history
                UNION ALL SELECT arrived FROM (SELECT arrived FROM courier_copy ORDER BY id DESC LIMIT 1)
                UNION ALL SELECT set_aside FROM (SELECT set_aside FROM courier_dead_letter ORDER BY id DESC LIMIT 1))
            """, clock);
        memory = new HistoryMemory(Ring.Places, clock);
        writer = new GroupWriter(file, connection => new BrokerStatements(new Prepared(connection)), Replaced);
        var tables = new SqliteTables(
            time, (read, cancel) => ReadAsync(SqliteTables.Calling(read), cancel), (write, cancel) =>
            {
                EnsurePrepared(create: false);
                return writer.RunAsync((BrokerStatements s) => SqliteTables.Calling(write)(s.Connection), cancel);
            });
        chores = new ChoreTable(tables, "courier.broker_chore");
        letters = new LetterTable(tables);
        looking = new QueueTable(tables, BrokerReports.Look);
        instructions = new InstructionTable(tables, byHand, OrderedAsync, Listen, clock, MissingAsync);
        Delivering = new Delivering(DisplayName, writer, time, Changed, logger ?? NullLogger.Instance);
        watch = new CommitWatch(file, LookAround, logger);
    }

    public string DisplayName => file.DisplayName;

    public BrokerAbilities Abilities => BrokerAbilities.All;

    public BrokerServices Services => services ??= new()
    {
        Reports = this, DeadLetters = this, Housekeeping = this, Register = this, TakeOver = this, Stamps = this,
        Examination = this, Recount = this, Instructions = instructions,
    };

    /// <summary>The time by which everything in the file is reckoned.</summary>
    internal long Now => time.Now;

    public Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken) => Task.Run(
        () =>
        {
            if (topology.Queues.FirstOrDefault(queue => !Names.IsQueue(queue)) is { } wrong)
                throw new CourierException($"'{wrong}' is not a queue's name: {Names.QueueRule}");
            if (create) file.Create();
            EnsurePrepared(create);
            Read(connection => BrokerTopology.Prepare(connection, file, topology, create));
        },
        cancellationToken);

    public Task<Topology> ReadTopologyAsync(CancellationToken cancellationToken) =>
        ReadAsync(BrokerTopology.Read, cancellationToken);

    public Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) =>
        PublishAsync(events, null, cancellationToken);

    Task<IReadOnlyList<PublishResult>> IStamps.PublishAsync(
        IReadOnlyList<EncodedEvent> events, Stamping stamping, CancellationToken cancellationToken) =>
        PublishAsync(events, stamping, cancellationToken);

    public Task<Stamped> ReadLastAsync(string store, CancellationToken cancellationToken)
    {
        EnsurePrepared(create: false);
        return writer.RunAsync(
            (BrokerStatements s) => new Stamped(s.Generation, file.DisplayName, s.LastStamp(store)), cancellationToken);
    }

    private Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, Stamping? stamping, CancellationToken cancellationToken)
    {
        EnsurePrepared(create: false);
        return PublishPreparedAsync(events, stamping, cancellationToken);
    }

    private async Task<IReadOnlyList<PublishResult>> PublishPreparedAsync(
        IReadOnlyList<EncodedEvent> events, Stamping? stamping, CancellationToken cancellationToken)
    {
        var (results, touched) = await writer.RunAsync(
            (BrokerStatements s) =>
            {
                if (stamping is { } stamp && (s.Generation != stamp.Generation || !s.Stamp(stamp)))
                    throw new StampGoneException(DisplayName);
                return Publish(s, events);
            },
            cancellationToken).ConfigureAwait(false);
        foreach (var queue in touched) Changed(queue).Raise();
        return results;
    }

    private (PublishResult[] Results, IReadOnlyCollection<long> Touched) Publish(
        BrokerStatements statements, IReadOnlyList<EncodedEvent> events)
    {
        var version = statements.TopologyVersion;
        if (version != routes.Version)
        {
            var (queues, inKeyOrder) = statements.ReadRoutes();
            routes = new Routes(version, queues, inKeyOrder);
        }

        var now = Now;
        var counts = new Dictionary<long, int>();
        var plan = Routing.Deal(events, routes.Queues, DisplayName);
        foreach (var (queue, i) in plan.Copies)
        {
            statements.AddCopy(
                queue, now, events[i].Json.Span, routes.InKeyOrder.Contains(queue), events[i].PartitionKey,
                waited: events[i].OutboxWait);
            counts[queue] = counts.GetValueOrDefault(queue) + 1;
        }
        foreach (var (queue, count) in counts) statements.Deliveries.Count(queue, waiting: count, came: count);
        return (plan.Results, counts.Keys);
    }

    public async Task<IReceivingLink> OpenLinkAsync(
        string queue, string worker, TimeSpan lease, CancellationToken cancellationToken)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(lease, TimeSpan.FromSeconds(1));
        var id = await IdOfAsync(queue, cancellationToken).ConfigureAwait(false);
        return new SqliteLink(this, id, worker, lease, file);
    }

    private Task<long> IdOfAsync(string queue, CancellationToken cancellationToken) =>
        ReadAsync(connection => BrokerTopology.IdOf(connection, file, queue), cancellationToken);

    public async Task<BrokerFigures> ReadFiguresAsync(CancellationToken cancellationToken)
    {
        var standing = await instructions.ReadAsync(-1, cancellationToken).ConfigureAwait(false);
        var figures = await ReadAsync(
            connection => BrokerReports.Figures(connection, DisplayName, Now, memory), cancellationToken)
            .ConfigureAwait(false);
        return standing!.Under(figures);
    }

    public async Task<QueueLook> LookAsync(
        string queue, int limit, string? beyond, CancellationToken cancellationToken) =>
        await looking.ReadAsync(queue, limit, beyond, cancellationToken).ConfigureAwait(false)
            ?? throw await MissingAsync(queue, cancellationToken).ConfigureAwait(false);

    private async Task<CourierException> MissingAsync(string queue, CancellationToken cancellationToken) =>
        BrokerProblems.Missing(
            file.DisplayName, [queue], [], (await ReadTopologyAsync(cancellationToken).ConfigureAwait(false)).Queues);

    private Task OrderedAsync()
    {
        byHand.Raise();
        // Some may be open that were not.
        foreach (var change in changes.Values) change.Raise();
        return Task.CompletedTask;
    }

    /// <summary>Links that wait have the file watched; who is keen has it watched besides.</summary>
    private Watching? Listen(bool isKeen) => isKeen ? new Watching(watch) : null;

    private sealed class Watching : IDisposable
    {
        private readonly CommitWatch watch;

        public Watching(CommitWatch watch)
        {
            this.watch = watch;
            watch.Enter();
        }

        public void Dispose() => watch.Leave();
    }

    async Task<IReadOnlyList<DeadLetter>> IDeadLetters.ReadAsync(
        string? queue, int limit, string? beyond, bool oldestFirst, CancellationToken cancellationToken) =>
        await letters.ReadAsync(
            queue is null ? null : await IdOfAsync(queue, cancellationToken).ConfigureAwait(false), limit, beyond,
            oldestFirst, cancellationToken).ConfigureAwait(false);

    Task<DeadLetter?> IDeadLetters.FindAsync(string id, CancellationToken cancellationToken) =>
        letters.FindAsync(id, cancellationToken);

    async Task<IReadOnlyList<bool>> IDeadLetters.SendBackAsync(
        IReadOnlyList<LetterReturn> letters, CancellationToken cancellationToken)
    {
        EnsurePrepared(create: false);
        var (went, touched) = await writer.RunAsync(
            (BrokerStatements s) =>
                BrokerLetters.SendBack(s, letters, time),
            cancellationToken).ConfigureAwait(false);
        foreach (var queue in touched) Changed(queue).Raise();
        return went;
    }

    async Task<IReadOnlyList<bool>> IDeadLetters.DiscardAsync(
        IReadOnlyList<string> ids, CancellationToken cancellationToken)
    {
        EnsurePrepared(create: false);
        return await writer.RunAsync((BrokerStatements s) => BrokerLetters.Discard(s, ids), cancellationToken)
            .ConfigureAwait(false);
    }

    public async Task<IReadOnlyList<string?>> TakeOverAsync(
        string queue, string worker, IReadOnlyList<TakenOver> events, CancellationToken cancellationToken)
    {
        var id = await IdOfAsync(queue, cancellationToken).ConfigureAwait(false);
        var become = await writer.RunAsync(
            (BrokerStatements s) => TakingOver.Run(s, id, worker, events, Now), cancellationToken)
            .ConfigureAwait(false);
        Changed(id).Raise();
        return become;
    }

    public async Task CountAsync(string queue, long accepted, long? waiting, CancellationToken cancellationToken)
    {
        var id = await IdOfAsync(queue, cancellationToken).ConfigureAwait(false);
        await writer.RunAsync(
            (BrokerStatements s) =>
            {
                s.CountElsewhere(id, accepted, waiting);
                return true;
            },
            cancellationToken).ConfigureAwait(false);
    }

    public Task<long> EstimateRowsAsync(CancellationToken cancellationToken) =>
        ReadAsync(Recounting.EstimateRows, cancellationToken);

    public async Task<IReadOnlyList<Recounted>> RecountAsync(TimeSpan within, CancellationToken cancellationToken)
    {
        // Counted beside the writers; what is missing, they add.
        var found = await ReadAsync(connection => Recounting.Count(connection, within), cancellationToken)
            .ConfigureAwait(false);
        if (found is null)
        {
            return [.. (await ReadTopologyAsync(cancellationToken).ConfigureAwait(false)).Queues.Order()
                .Select(queue => new Recounted(queue, null, null))];
        }
        if (found.Count > 0)
            await writer.RunAsync((BrokerStatements s) => s.Mend(found), cancellationToken).ConfigureAwait(false);
        return found.ConvertAll(d => new Recounted(d.Name, d.Waiting + d.InHand, d.DeadLetters));
    }

    Task<bool> IHousekeeping.TakeAsync(
        Chore chore, string keeper, TimeSpan lease, TimeSpan every, CancellationToken cancellationToken) =>
        chores.TakeAsync(chore, keeper, lease, every, cancellationToken);

    async Task<ChoreStep> IHousekeeping.DoAsync(Chore chore, string? from, CancellationToken cancellationToken)
    {
        if (chore is not { Kind: ChoreKind.DeadLetters, Queue: { } queue })
            throw new ArgumentException($"a broker does not do {chore.Name}", nameof(chore));
        var id = await IdOfAsync(queue, cancellationToken).ConfigureAwait(false);
        var before = Now - (long)chore.Keep.TotalMilliseconds;
        return await writer.RunAsync((BrokerStatements s) => BrokerLetters.ClearOld(s, id, before), cancellationToken)
            .ConfigureAwait(false);
    }

    Task IHousekeeping.EndAsync(Chore chore, string keeper, bool isDone, CancellationToken cancellationToken) =>
        chores.EndAsync(chore, keeper, isDone, cancellationToken);

    public Task BeatAsync(WorkerFigures worker, TimeSpan validFor, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(worker);
        // Who shares a file shares a clock: how far that is from the file's time says nothing of anybody.
        var report = WorkerJson.Write(worker.Said == default ? worker
            : worker with { Said = worker.Said.AddMilliseconds(-time.ClockAhead) });
        return writer.RunAsync(
            (BrokerStatements s) =>
            {
                var now = Now;
                s.Beat(worker.Id, report, now, now + (long)validFor.TotalMilliseconds);
                return true;
            },
            cancellationToken);
    }

    public Task LeaveAsync(string id, CancellationToken cancellationToken) => writer.RunAsync(
        (BrokerStatements s) =>
        {
            s.Leave(id, Now);
            return true;
        },
        cancellationToken);

    public IAsyncEnumerable<Check> ExamineAsync(CancellationToken cancellationToken) =>
        Examination.OfAsync(file, BrokerTables.Schema, null, cancellationToken);

    public ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref disposed, true)) return ValueTask.CompletedTask;
        watch.Dispose();
        writer.Dispose();
        file.ClosePool();
        return ValueTask.CompletedTask;
    }

    /// <summary>Raised when a queue may have something that it had not before.</summary>
    internal Signal Changed(long queue) => changes.GetOrAdd(queue, static _ => new Signal());

    internal Delivering Delivering { get; }

    internal CommitWatch Watch => watch;

    internal TimeProvider Clock => clock;

    /// <summary>
    /// After another process's commit, and at every tick: wakes links whose queues hold something, and frees what the
    /// dead held.
    /// </summary>
    private void LookAround(SqliteConnection connection)
    {
        using (var waiting = Statement.On(connection, "SELECT id FROM courier_queue WHERE waiting > 0"))
        {
            while (waiting.Step()) Changed(waiting.Int64(0)).Raise();
        }

        using (var ordered = Statement.On(connection, "SELECT by_hand FROM courier_topology"))
        {
            if (ordered.Scalar() is { } number && Interlocked.Exchange(ref orders, number) != number) byHand.Raise();
        }

        var now = Now;
        if (!Delivering.IsTimeToSweep(now)) return;
        using var expired = Statement.On(connection, "SELECT 1 FROM courier_lease WHERE until <= ? LIMIT 1");
        if (expired.Bind(1, now).Scalar() is null) return;
        _ = writer.RunAsync((BrokerStatements s) => { Delivering.Sweep(s, Now); return true; }, CancellationToken.None);
    }

    /// <summary>Makes sure that what has to be known of the file is known.</summary>
    internal void Prepare() => EnsurePrepared(create: false);

    /// <summary>Another file is at its place: nothing that was known of this one holds.</summary>
    private void Replaced()
    {
        time.Forget();
        memory.Forget();
        Volatile.Write(ref prepared, false);
        routes = new Routes(0, [], []);
    }

    /// <summary>Checks once that the file is a broker's, so that the hot paths need not.</summary>
    private void EnsurePrepared(bool create)
    {
        lock (preparing)
        {
            if (prepared) return;
            Read(connection =>
            {
                if (create) BrokerTables.Schema.Apply(connection, file);
                else BrokerTables.Schema.Check(connection, file);
                return true;
            });
            time.Load();
            prepared = true;
        }
    }

    private Task<T> ReadAsync<T>(Func<SqliteConnection, T> read, CancellationToken cancellationToken) => Task.Run(
        () =>
        {
            EnsurePrepared(create: false);
            return Read(read);
        },
        cancellationToken);

    private T Read<T>(Func<SqliteConnection, T> read)
    {
        try
        {
            return file.Read(read);
        }
        catch (SqliteException e)
        {
            throw file.Problem(e, "read");
        }
    }

    private sealed record Routes(long Version, Dictionary<string, long[]> Queues, HashSet<long> InKeyOrder);
}
