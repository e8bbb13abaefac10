using GentleCourier.Engines;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Options;

namespace GentleCourier.Publishing;

/// <summary>
/// Moves events from the outbox to the broker: publish, then mark. A kill between the two publishes a batch again, with
/// the same ids, and inboxes absorb it; no order of the two writes loses an event. One relay of a store leads at a
/// time; marking is fenced by its term, so that one that lost the lead in its sleep changes nothing. Where both are in
/// one database the two writes are one.
/// </summary>
internal sealed partial class Relay(
    IStorePort store, IBroker broker, IOptions<RelayOptions> options, TimeProvider clock,
        ILogger<Relay> logger) : BackgroundService
{
    // Under load a batch is gathered for this long, and for so many times as long as the last one took; after a pause
    // the first event leaves at once.
    private static readonly TimeSpan Gathering = TimeSpan.FromMilliseconds(5);
    private const int Restraint = 4;

    private readonly RelayOptions options = options.Value;
    private readonly string name = WorkerName.Unique();
    // The term in which this relay leads, from the moment on at which it does: a stop gives it up, whenever it comes.
    private long? term;
    private bool hasLookedForDirectWay;
    private IDirectWay? directWay;
    private int failures;

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await TakeTurnAsync(stoppingToken).ConfigureAwait(false);
                await RecoverAsync().ConfigureAwait(false);
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                break;
            }
            catch (Exception e)
            {
                await BackOffAsync(e, stoppingToken).ConfigureAwait(false);
            }
        }
        await ResignAsync().ConfigureAwait(false);
    }

    /// <summary>
    /// Leads for as long as there is something to relay, then waits for more; or stands by for a while.
    /// </summary>
    private async Task TakeTurnAsync(CancellationToken stopping)
    {
        // The lease is kept by leading again, well before it is over; a third of it leaves room for two misses.
        var keepUntil = clock.GetTimestamp();
        var previous = term;
        term = await store.LeadAsync(name, options.Lease, stopping).ConfigureAwait(false);
        if (term is not { } leading)
        {
            if (previous is not null) LogLostLead(logger, store.DisplayName);
            await Task.Delay(options.Lease / 5, clock, stopping).ConfigureAwait(false);
            return;
        }
        if (term != previous) LogLeads(logger, store.DisplayName, broker.DisplayName);
        if (!hasLookedForDirectWay)
        {
            directWay = await store.FindDirectWayAsync(broker, stopping).ConfigureAwait(false);
            hasLookedForDirectWay = true;
            if (directWay is not null) LogDirectWay(logger, store.DisplayName);
        }
        FaultPoint.Pass(FaultPoint.LeadsNotPublished);

        while (clock.GetElapsedTime(keepUntil) < options.Lease / 3)
        {
            var began = clock.GetTimestamp();
            var moved = directWay is null ? 0
                : await directWay.MoveAsync(leading, options.BatchSize, stopping).ConfigureAwait(false);
            if (moved == options.BatchSize) continue;

            var batch = moved > 0 ? new OutboxBatch([], null)
                : await store.ReadOutboxAsync(options.BatchSize, stopping).ConfigureAwait(false);
            if (batch.Rows.Count > 0 && !await RelayBatchAsync(leading, batch.Rows, stopping).ConfigureAwait(false))
            {
                term = null;
                return;
            }
            if (moved + batch.Rows.Count > 0)
            {
                // Each batch costs commits: relaying every event by itself would slow down those who publish them.
                var took = clock.GetElapsedTime(began);
                var rest = took * Restraint > Gathering ? took * (Restraint - 1) : Gathering - took;
                if (moved + batch.Rows.Count < options.BatchSize && rest > TimeSpan.Zero)
                    await Task.Delay(rest, clock, stopping).ConfigureAwait(false);
                continue;
            }

            var wait = (options.Lease / 3) - clock.GetElapsedTime(keepUntil);
            if (batch.DueIn < wait) wait = batch.DueIn.Value;
            if (wait <= TimeSpan.Zero) break;
            await store.WaitForOutboxAsync(wait, stopping).ConfigureAwait(false);
        }
    }

    private async Task<bool> RelayBatchAsync(long leading, IReadOnlyList<OutboxRow> rows, CancellationToken stopping)
    {
        var events = new EncodedEventList(rows);
        var results = await broker.PublishAsync(events, stopping).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.PublishedNotMarked);

        var marks = new RelayMark[rows.Count];
        for (var i = 0; i < marks.Length; i++)
        {
            var result = results[i];
            var retryAfter = result.Fate == PublishFate.Deferred
                ? BackOff.Delay(
                    rows[i].Attempts + 1, options.FirstDelay, options.LongestDelay, Random.Shared.NextDouble())
                : TimeSpan.Zero;
            marks[i] = new RelayMark(rows[i], result, retryAfter);
            if (result.Fate == PublishFate.Deferred && rows[i].Attempts == 0)
                LogDeferred(logger, rows[i].Event.Type, rows[i].Event.Id, result.Reason!);
            else if (result.Fate == PublishFate.Refused)
                LogRefused(logger, rows[i].Event.Type, rows[i].Event.Id, result.Reason!);
        }
        // The batch is published: even when the host stops now, the mark is made, which spares the inboxes a copy.
        var marked = await store.MarkAsync(leading, marks, CancellationToken.None).ConfigureAwait(false);
        if (marked) await RecoverAsync().ConfigureAwait(false);
        return marked;
    }

    /// <summary>It works: an error that was written down is no longer true.</summary>
    private async Task RecoverAsync()
    {
        if (failures == 0) return;
        if (term is { } mine)
            await store.RecordRelayErrorAsync(mine, null, CancellationToken.None).ConfigureAwait(false);
        LogRecovered(logger, store.DisplayName, broker.DisplayName, failures);
        failures = 0;
    }

    private async Task BackOffAsync(Exception problem, CancellationToken stopping)
    {
        failures++;
        var delay = BackOff.Delay(failures, options.FirstDelay, options.LongestDelay, Random.Shared.NextDouble());
        LogFailed(logger, store.DisplayName, broker.DisplayName, problem.Message, failures, delay);
        try
        {
            // An error is written down by whoever leads; a relay that stands by has tried nothing.
            term ??= await store.LeadAsync(name, options.Lease, stopping).ConfigureAwait(false);
            if (term is { } mine)
                await store.RecordRelayErrorAsync(mine, problem.Message, stopping).ConfigureAwait(false);
            await Task.Delay(delay, clock, stopping).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (stopping.IsCancellationRequested)
        {
        }
        catch (Exception e)
        {
            // The store is away as well: there is nowhere to write the error but the log.
            LogFailed(logger, store.DisplayName, broker.DisplayName, e.Message, failures, delay);
            await Task.Delay(delay, clock, stopping).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private async Task ResignAsync()
    {
        if (term is null) return;
        FaultPoint.Pass(FaultPoint.StoppedNotResigned);
        try
        {
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(5));
            await store.ResignAsync(term.Value, limit.Token).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            LogNotResigned(logger, store.DisplayName, e.Message);
        }
    }

    /// <summary>The events of a batch, without copying them.</summary>
    private sealed class EncodedEventList(IReadOnlyList<OutboxRow> rows) : IReadOnlyList<EncodedEvent>
    {
        public int Count => rows.Count;

        public EncodedEvent this[int index] => rows[index].Event;

        public IEnumerator<EncodedEvent> GetEnumerator() => rows.Select(row => row.Event).GetEnumerator();

        System.Collections.IEnumerator System.Collections.IEnumerable.GetEnumerator() => GetEnumerator();
    }

    [LoggerMessage(101, LogLevel.Information, "Relay leads: {Store} to {Broker}")]
    private static partial void LogLeads(ILogger logger, string store, string broker);

    [LoggerMessage(102, LogLevel.Information, "Relay of {Store} no longer leads; another does")]
    private static partial void LogLostLead(ILogger logger, string store);

    [LoggerMessage(103, LogLevel.Warning,
        "Relay of {Store} to {Broker} failed: {Problem} (failure {Failures} in a row; next try in {Delay})")]
    private static partial void LogFailed(
        ILogger logger, string store, string broker, string problem, int failures, TimeSpan delay);

    [LoggerMessage(104, LogLevel.Information, "Relay of {Store} to {Broker} works again after {Failures} failures")]
    private static partial void LogRecovered(ILogger logger, string store, string broker, int failures);

    [LoggerMessage(105, LogLevel.Warning, "Event {Type} {Id} is held in the outbox and will be tried again: {Reason}")]
    private static partial void LogDeferred(ILogger logger, string type, string id, string reason);

    [LoggerMessage(
        106, LogLevel.Error, "Event {Type} {Id} is set aside in the outbox, the broker refused it: {Reason}")]
    private static partial void LogRefused(ILogger logger, string type, string id, string reason);

    [LoggerMessage(107, LogLevel.Warning,
        "Relay of {Store} could not give up the lead: {Problem}; another takes over when the lease ends")]
    private static partial void LogNotResigned(ILogger logger, string store, string problem);

    [LoggerMessage(108, LogLevel.Information,
        "Outbox and queues are in one database, {Store}: events are moved there in one step")]
    private static partial void LogDirectWay(ILogger logger, string store);
}
