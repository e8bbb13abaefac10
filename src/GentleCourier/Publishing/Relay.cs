using GentleCourier.Engines;
using GentleCourier.Hosting;
using GentleCourier.Scheduling;
using GentleCourier.Telemetry;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Options;

namespace GentleCourier.Publishing;

/// <summary>
/// Moves events from the outbox to the broker: publish, then mark. A kill between the two publishes a batch again, with
/// the same ids, and inboxes absorb it; no order of the two writes loses an event. One relay of a store leads at a
/// time. The lead is kept beside the work, and what the broker has confirmed is forgotten whoever leads by then;
/// holding is fenced by the term. Where both are in one database the two writes are one.
/// </summary>
internal sealed partial class Relay : BackgroundService
{
    private readonly IStorePort store;
    private readonly IBroker broker;
    private readonly RelayOptions options;
    private readonly Preparation preparation;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly FanOut? fanOut;
    private readonly Repeats repeats = new();
    private readonly Lead lead;
    private readonly Timekeeper timekeeper;
    private readonly Loop keeping, turns, timing;
    // What this relay knows of its term: begun anew with each.
    private long? known;
    private bool hasLookedForDirectWay, hasRecordedError;
    private IDirectWay? directWay;
    private BrokerMark? mark;

    public Relay(
        IStorePort store, IBroker broker, IOptions<RelayOptions> options, IOptions<CourierOptions> courier,
        Preparation preparation, TimeProvider clock, ILogger<Relay> logger)
    {
        this.preparation = preparation;
        this.store = store;
        this.broker = broker;
        this.options = options.Value;
        this.clock = clock;
        this.logger = new SafeLogger(logger);
        fanOut = broker.Abilities.HasFlag(BrokerAbilities.Routes) ? null
            : new FanOut(broker, store, courier.Value.Routes.Addresses);
        lead = new Lead(store, store.DisplayName, this.options.Lease, clock, this.logger);
        timekeeper = new Timekeeper(store, lead, clock, this.logger);
        timing = NewLoop($"Timekeeper of {store.DisplayName}", null);
        keeping = NewLoop($"Lead of the relays of {store.DisplayName}", null);
        turns = NewLoop($"Relay of {store.DisplayName} to {broker.DisplayName}", RecordAsync);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (!await preparation.IsDoneAsync(stoppingToken).ConfigureAwait(false)) return;
        var kept = keeping.RunAsync(lead.KeepAsync, stoppingToken);
        var timed = timing.RunAsync(timekeeper.TakeTurnAsync, stoppingToken);
        await turns.RunAsync(TakeTurnAsync, stoppingToken).ConfigureAwait(false);
        await timed.ConfigureAwait(false);
        await kept.ConfigureAwait(false);
        await lead.ResignAsync().ConfigureAwait(false);
    }

    /// <summary>Relays what there is, and rests; or waits for more.</summary>
    private async Task TakeTurnAsync(CancellationToken stopping)
    {
        var term = await lead.TakenAsync(stopping).ConfigureAwait(false);
        if (term != known) await BeginTermAsync(term, stopping).ConfigureAwait(false);

        var began = clock.GetTimestamp();
        var moved = directWay is null ? 0
            : await directWay.MoveAsync(term, options.BatchSize, stopping).ConfigureAwait(false);
        if (moved > 0) Meters.Send(moved, clock.GetElapsedTime(began));
        var batch = moved > 0 ? new OutboxBatch([], null, moved == options.BatchSize)
            : await store.ReadOutboxAsync(options.BatchSize, stopping).ConfigureAwait(false);
        if (batch.Rows.Count > 0) await RelayBatchAsync(term, batch, stopping).ConfigureAwait(false);
        await ForgetErrorAsync(term).ConfigureAwait(false);
        if (batch.IsFull) return;
        if (moved + batch.Rows.Count > 0)
        {
            await Task.Delay(Pace.Rest(clock.GetElapsedTime(began)), clock, stopping).ConfigureAwait(false);
            return;
        }
        // However it is woken, it looks in time to see what nobody has told it of.
        var wait = batch.DueIn is { } due && due < options.Lease / 3 ? due : options.Lease / 3;
        if (wait > TimeSpan.Zero) await store.WaitForOutboxAsync(wait, stopping).ConfigureAwait(false);
    }

    private async Task BeginTermAsync(long term, CancellationToken stopping)
    {
        LogLeads(logger, store.DisplayName, broker.DisplayName);
        if (!hasLookedForDirectWay)
        {
            directWay = await store.FindDirectWayAsync(broker, stopping).ConfigureAwait(false);
            hasLookedForDirectWay = true;
            if (directWay is not null) LogDirectWay(logger, store.DisplayName);
        }
        mark = await store.ReadBrokerMarkAsync(broker.DisplayName, stopping).ConfigureAwait(false);
        known = term;
        FaultPoint.Pass(FaultPoint.LeadsNotPublished);
    }

    private async Task RelayBatchAsync(long term, OutboxBatch batch, CancellationToken stopping)
    {
        using var span = Spans.Send(batch.Rows);
        var began = clock.GetTimestamp();
        IReadOnlyList<Answer> answers;
        IReadOnlySet<string> heldBefore = new HashSet<string>();
        try
        {
            if (fanOut is null) answers = await PublishAllAsync(batch.Rows, stopping).ConfigureAwait(false);
            else (answers, heldBefore) = await fanOut.PublishAsync(batch, stopping).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            span.Failed(e);
            throw;
        }
        FaultPoint.Pass(FaultPoint.PublishedNotMarked);
        Meters.Send(answers, clock.GetElapsedTime(began));
        foreach (var answer in answers) Log(answer);
        if (answers.All(a => a.Result.Fate == PublishFate.Taken)) repeats.Forget();

        var marks = Marking.Of(answers, heldBefore, attempts => BackOff.Delay(
            attempts, options.FirstDelay, options.LongestDelay, Random.Shared.NextDouble()));
        if (mark is { } reached) marks = marks with { By = (broker.DisplayName, reached) };
        // The batch is published: even when the host stops now, the mark is made, which spares the inboxes a copy.
        if (!await store.MarkAsync(term, marks, CancellationToken.None).ConfigureAwait(false)) lead.Lose(term);
    }

    private async Task<IReadOnlyList<Answer>> PublishAllAsync(
        IReadOnlyList<OutboxRow> rows, CancellationToken stopping)
    {
        var results = await PublishAsync(rows, stopping).ConfigureAwait(false);
        return [.. rows.Select((row, i) => new Answer(row, null, results[i]))];
    }

    /// <summary>One that the broker cannot take must not keep the others: they are divided until it is alone.</summary>
    private async Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<OutboxRow> rows, CancellationToken stopping)
    {
        try
        {
            var published = await broker.PublishSinceAsync(new EncodedEventList(rows), mark, stopping)
                .ConfigureAwait(false);
            mark = published.Mark ?? mark;
            return published.Results;
        }
        catch (BrokerChangedException)
        {
            // Somebody may have said that it is to be so.
            mark = await store.ReadBrokerMarkAsync(broker.DisplayName, stopping).ConfigureAwait(false);
            throw;
        }
        catch (CourierException e) when (e.IsAboutContent)
        {
            if (rows.Count == 1) return [PublishResult.Refused(e.Message)];
        }
        var (first, second) = (rows.Take(rows.Count / 2).ToList(), rows.Skip(rows.Count / 2).ToList());
        var results = (await PublishAsync(first, stopping).ConfigureAwait(false)).ToList();
        // What follows an event that has to wait waits with it, in the other half, too.
        var waiting = first.Where((_, i) => results[i].Fate == PublishFate.Deferred).Select(r => r.Event.PartitionKey)
            .OfType<string>().ToHashSet(StringComparer.Ordinal);
        var others = second.Where(r => r.Event.PartitionKey is not { } key || !waiting.Contains(key)).ToList();
        var further = new Queue<PublishResult>(
            others.Count == 0 ? [] : await PublishAsync(others, stopping).ConfigureAwait(false));
        results.AddRange(second.Select(r => r.Event.PartitionKey is { } key && waiting.Contains(key)
            ? PublishResult.Deferred(Marking.Follows) : further.Dequeue()));
        return results;
    }

    private void Log(Answer answer)
    {
        var (row, result) = (answer.Row, answer.Result);
        if (result.Fate == PublishFate.Deferred && row is { Attempts: 0, IsHeld: false }
            && repeats.IsTimeToSay($"{row.Event.Type}{To(answer)}", out var times))
            LogDeferred(logger, row.Event.Type, row.Event.Id, To(answer), result.Reason!, times);
        else if (result.Fate == PublishFate.Refused)
            LogRefused(logger, row.Event.Type, row.Event.Id, To(answer), result.Reason!);
    }

    private static string To(Answer answer) =>
        (answer.Address ?? answer.Row.Event.Address) is { } address ? $" for '{address}'" : "";

    /// <summary>An error is written down by whoever leads; a relay that stands by has tried nothing.</summary>
    private async Task RecordAsync(Exception problem, CancellationToken stopping)
    {
        if (lead.Term is not { } mine) return;
        await store.RecordRelayErrorAsync(mine, Words.Of(problem), stopping).ConfigureAwait(false);
        hasRecordedError = true;
    }

    /// <summary>It works: an error that was written down is no longer true.</summary>
    private async Task ForgetErrorAsync(long term)
    {
        if (!hasRecordedError) return;
        await store.RecordRelayErrorAsync(term, null, CancellationToken.None).ConfigureAwait(false);
        hasRecordedError = false;
    }

    private Loop NewLoop(string name, Func<Exception, CancellationToken, Task>? failed) =>
        new(name, options.FirstDelay, options.LongestDelay, clock, logger) { Failed = failed };

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

    [LoggerMessage(105, LogLevel.Warning,
        "Event {Type} {Id} is held in the outbox{Address} and will be tried again: {Reason} ({Times} like it since all "
        + "were taken)")]
    private static partial void LogDeferred(
        ILogger logger, string type, string id, string address, string reason, int times);

    [LoggerMessage(106, LogLevel.Error,
        "Event {Type} {Id} is set aside in the outbox{Address}, the broker refused it: {Reason}")]
    private static partial void LogRefused(ILogger logger, string type, string id, string address, string reason);

    [LoggerMessage(108, LogLevel.Information,
        "Outbox and queues are in one database, {Store}: events are moved there in one step")]
    private static partial void LogDirectWay(ILogger logger, string store);
}
