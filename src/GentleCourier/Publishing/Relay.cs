using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Hosting;
using GentleCourier.Scheduling;
using GentleCourier.Telemetry;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Publishing;

/// <summary>
/// Moves events from the outbox to the broker: publish, then mark. A kill between the two publishes a batch again, with
/// the same ids, and inboxes absorb it; no order of the two writes loses an event. One relay of a store leads at a
/// time. The lead is kept beside the work, and what the broker has confirmed is forgotten whoever leads by then;
/// holding is fenced by the term. Where both are in one database the two writes are one.
/// </summary>
internal sealed partial class Relay : BackgroundService
{
    /// <summary>
    /// For so long it goes on from batch to batch. Then it looks at everything anew: what is held and due waits no
    /// longer than that behind however many.
    /// </summary>
    private static readonly TimeSpan LongestRun = TimeSpan.FromSeconds(1);

    /// <summary>So often it looks whether it is still paused by hand.</summary>
    private static readonly TimeSpan PausedLook = TimeSpan.FromMilliseconds(500);

    /// <summary>So often it looks at the least whether the broker's tables have been made.</summary>
    private static readonly TimeSpan LongestLook = TimeSpan.FromSeconds(5);

    /// <summary>For so long what has been published is still marked once the host stops.</summary>
    private static readonly TimeSpan LongestFarewell = TimeSpan.FromSeconds(5);

    private readonly IStorePort store;
    private readonly IBroker broker;
    private readonly RelayOptions options;
    private readonly CourierSetup setup;
    private readonly Preparation preparation;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly BatchPublisher publisher;
    private readonly Lead lead;
    private readonly Stamper stamper;
    private readonly Timekeeper timekeeper;
    private readonly Loop keeping, turns, timing;
    private readonly IWitness? witness;
    private readonly Pace pace = new();
    // What this relay knows of its term: begun anew with each.
    private long? known;
    private bool isPrepared, hasLookedForDirectWay, hasRecordedError;
    private IDirectWay? directWay;

    public Relay(
        IStorePort store, IBroker broker, CourierSetup setup, Preparation preparation, CourierClock clock,
        ILogger<Relay> logger, IWitness? witness = null)
    {
        this.preparation = preparation;
        this.setup = setup;
        this.store = store;
        this.broker = broker;
        options = setup.Relay;
        this.clock = clock.Time;
        this.witness = witness;
        this.logger = new SafeLogger(logger);
        lead = new Lead(store, store.DisplayName, options.Lease, clock.Aside, this.logger);
        stamper = new Stamper(broker, store, lead, clock.Time, this.logger);
        publisher = new BatchPublisher(
            broker, store, stamper, options, setup.Options, clock.Time, this.logger, witness);
        timekeeper = new Timekeeper(store, lead, clock.Time, this.logger) { Rests = witness is null };
        timing = NewLoop($"Timekeeper of {store.DisplayName}", null);
        keeping = NewLoop($"Lead of the relays of {store.DisplayName}", null);
        turns = NewLoop($"Relay of {store.DisplayName} to {broker.DisplayName}", RecordAsync);
    }

    public override void Dispose()
    {
        base.Dispose();
        lead.Dispose();
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (!await preparation.IsDoneAsync(stoppingToken).ConfigureAwait(false)) return;
        var kept = keeping.RunAsync(lead.KeepAsync, stoppingToken);
        var timed = timing.RunAsync(timekeeper.RunOnceAsync, stoppingToken);
        await turns.RunAsync(RunOnceAsync, stoppingToken).ConfigureAwait(false);
        await timed.ConfigureAwait(false);
        await kept.ConfigureAwait(false);
        await lead.ResignAsync().ConfigureAwait(false);
    }

    private async Task RunOnceAsync(CancellationToken stopping)
    {
        if (!isPrepared && !await PrepareAsync(stopping).ConfigureAwait(false)) return;
        var term = await lead.TakenAsync(stopping).ConfigureAwait(false);
        try
        {
            if (await stamper.BeginAsync(term, stopping).ConfigureAwait(false) is not { } mine) lead.Lose(term);
            else await RunOnceAsync(mine, stopping).ConfigureAwait(false);
        }
        catch (DeposedException)
        {
            // Whether another leads is for the store to say; where it does not, the term has to be raised.
            lead.Lose(term);
        }
    }

    /// <summary>Relays what there is, and rests; or waits for more.</summary>
    private async Task RunOnceAsync(long term, CancellationToken stopping)
    {
        if (term != known) await BeginTermAsync(term, stopping).ConfigureAwait(false);

        var began = clock.GetTimestamp();
        var moved = directWay is null ? 0 : await MoveAsync(directWay, term, stopping).ConfigureAwait(false);
        var batch = moved > 0 ? new OutboxBatch([], null, moved == options.BatchSize)
            : await store.ReadOutboxAsync(options.BatchSize, stopping).ConfigureAwait(false);
        if (batch.IsPaused)
        {
            // Whoever resumes it need tell nobody.
            await Task.Delay(PausedLook, clock, stopping).ConfigureAwait(false);
            return;
        }
        var (isFull, took) = batch.Rows.Count > 0
            ? await RelayAsync(term, batch, began, stopping).ConfigureAwait(false)
            : (batch.IsFull, clock.GetElapsedTime(began));
        await ForgetErrorAsync(term, stopping).ConfigureAwait(false);
        if (isFull) return;
        if (moved + batch.Rows.Count > 0)
        {
            // By the machine's own clock: it decides nothing but what goes together.
            var rest = pace.Rest(moved + batch.Rows.Count, Stopwatch.GetElapsedTime(0), took);
            if (rest > TimeSpan.Zero && witness is null) await Task.Delay(rest, stopping).ConfigureAwait(false);
            return;
        }
        await stamper.LookIfItIsTimeAsync(stopping).ConfigureAwait(false);
        // However it is woken, it looks in time to see what nobody has told it of.
        var wait = (batch.DueIn is { } due && due < options.Lease / 3 ? due : options.Lease / 3)
            - clock.GetElapsedTime(began);
        if (wait > TimeSpan.Zero) await store.WaitForOutboxAsync(wait, stopping).ConfigureAwait(false);
    }

    /// <summary>
    /// Makes the broker's tables where this process may, though never queues: those are for who receives. Where they
    /// are missing, and others make them, that is waited for: it is said once, and is no failure.
    /// </summary>
    private async Task<bool> PrepareAsync(CancellationToken stopping)
    {
        try
        {
            if (setup.Bindings.Count == 0)
                await broker.PrepareAsync(Topology.Empty, setup.Options.CreateMissing, stopping).ConfigureAwait(false);
            (isPrepared, preparation.Note) = (true, null);
        }
        catch (CourierException e) when (!e.IsTransient)
        {
            if (!e.IsNotMade && !await IsMissingAsync(stopping).ConfigureAwait(false)) throw;
            if (preparation.Note is null) LogNoTables(logger, store.DisplayName, e.Message);
            preparation.Note = e.Message;
            await RecordAsync(e, stopping).ConfigureAwait(false);
            await Task.Delay(options.Lease < LongestLook ? options.Lease : LongestLook, clock, stopping)
                .ConfigureAwait(false);
        }
        return isPrepared;
    }

    /// <summary>Whether the tables could not be made for want of rights, and are not there.</summary>
    private async Task<bool> IsMissingAsync(CancellationToken stopping)
    {
        try
        {
            await broker.PrepareAsync(Topology.Empty, create: false, stopping).ConfigureAwait(false);
            return false;
        }
        catch (CourierException e)
        {
            return e.IsNotMade;
        }
    }

    private async Task BeginTermAsync(long term, CancellationToken stopping)
    {
        LogLeads(logger, store.DisplayName, broker.DisplayName);
        if (!hasLookedForDirectWay)
        {
            // A witness is to see each event.
            directWay = witness is not null ? null
                : await store.FindDirectWayAsync(broker, stopping).ConfigureAwait(false);
            hasLookedForDirectWay = true;
            if (directWay is not null) LogDirectWay(logger, store.DisplayName);
        }
        if (!broker.Abilities.HasFlag(BrokerAbilities.Routes))
            await store.Routes.WriteAsync(setup.Options.Routes.All, stopping).ConfigureAwait(false);
        known = term;
        FaultPoint.Pass(FaultPoint.LeadsNotPublished);
    }

    private async Task<int> MoveAsync(IDirectWay way, long term, CancellationToken stopping)
    {
        var began = clock.GetTimestamp();
        var moved = await way.MoveAsync(term, options.BatchSize, stopping).ConfigureAwait(false);
        if (moved.Count == 0) return 0;
        Meters.Exchange("send", moved.Count == 1 ? moved.Keys.Single() : null, clock.GetElapsedTime(began));
        Meters.Send(moved);
        return moved.Values.Sum();
    }

    /// <summary>
    /// Relays a batch and those behind it, one after the other. While one is on its way, the one before is marked and
    /// the next one read, so that the broker need not wait for the store. Nothing goes on where an event has to wait:
    /// those that come after it by its key may have been read already.
    /// </summary>
    /// <returns>Whether there may be more; and how long the last one took.</returns>
    private async Task<(bool IsFull, TimeSpan Took)> RelayAsync(
        long term, OutboxBatch batch, long began, CancellationToken stopping)
    {
        var run = began;
        OutboxMarks? marks = null;
        while (true)
        {
            var publishing = publisher.PublishAsync(batch, stopping);
            var besides = MarkAndReadOnAsync(term, marks, batch, run, stopping);
            await Task.WhenAll(publishing, besides).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            // What is not published is not marked.
            marks = await publishing.ConfigureAwait(false);
            if (besides is { IsCompletedSuccessfully: true, Result: { } next } && marks.IsForgettingAlone
                && lead.Term == term)
            {
                (batch, began) = (next, clock.GetTimestamp());
                continue;
            }
            await MarkAsync(term, marks, stopping).ConfigureAwait(false);
            await besides.ConfigureAwait(false);
            return (batch.IsFull, clock.GetElapsedTime(began));
        }
    }

    /// <summary>Marks what came before a batch that is on its way, and reads what comes behind it.</summary>
    /// <returns>Null: nothing, or it is time to look at everything anew.</returns>
    private async Task<OutboxBatch?> MarkAndReadOnAsync(
        long term, OutboxMarks? before, OutboxBatch batch, long run, CancellationToken stopping)
    {
        if (before is not null)
        {
            FaultPoint.Pass(FaultPoint.NextUnderWayNotMarked);
            await MarkAsync(term, before, stopping).ConfigureAwait(false);
        }
        if (!batch.IsFull || batch.Rows[^1].IsHeld || clock.GetElapsedTime(run) >= LongestRun) return null;
        var next = await store.ReadOnAsync(batch.Rows, options.BatchSize, stopping).ConfigureAwait(false);
        // While nothing has to wait, as much is held as when the run began.
        return next.Rows.Count > 0 ? next with { DueIn = batch.DueIn } : null;
    }

    /// <summary>
    /// Those are published: even when the host stops now, the mark is made, which spares the inboxes a copy. A store
    /// that is locked or away is not waited for then.
    /// </summary>
    private async Task MarkAsync(long term, OutboxMarks marks, CancellationToken stopping)
    {
        using var limit = new CancellationTokenSource();
        using var begins = stopping.UnsafeRegister(
            static limit => ((CancellationTokenSource)limit!).CancelAfter(LongestFarewell), limit);
        if (!await store.MarkAsync(term, marks, limit.Token).ConfigureAwait(false)) lead.Lose(term);
    }

    /// <summary>An error is written down by whoever leads; a relay that stands by has tried nothing.</summary>
    private async Task RecordAsync(Exception problem, CancellationToken stopping)
    {
        stamper.Distrust();
        if (lead.Term is not { } mine) return;
        await store.RecordRelayErrorAsync(mine, Words.Of(problem), stopping).ConfigureAwait(false);
        hasRecordedError = true;
    }

    /// <summary>It works: an error that was written down is no longer true.</summary>
    private async Task ForgetErrorAsync(long term, CancellationToken stopping)
    {
        if (!hasRecordedError) return;
        await store.RecordRelayErrorAsync(term, null, stopping).ConfigureAwait(false);
        hasRecordedError = false;
    }

    private Loop NewLoop(string name, Func<Exception, CancellationToken, Task>? failed) =>
        new(name, options.FirstDelay, options.MaxDelay, clock, logger) { Failed = failed };

    [LoggerMessage(101, LogLevel.Information, "Relay leads: {Store} to {Broker}")]
    private static partial void LogLeads(ILogger logger, string store, string broker);

    [LoggerMessage(109, LogLevel.Warning,
        "What is published waits in the outbox of {Store} until the broker's tables are there: {Problem}")]
    private static partial void LogNoTables(ILogger logger, string store, string problem);

    [LoggerMessage(108, LogLevel.Information,
        "Outbox and queues are in one database, {Store}: events are moved there in one step")]
    private static partial void LogDirectWay(ILogger logger, string store);
}
