using System.Collections.Concurrent;
using System.Runtime.InteropServices;
using GentleCourier.Engines;
using GentleCourier.Telemetry;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// The life of one link. One loop speaks with it: it settles what the handlers have finished and, in the same breath,
/// fetches as much as the prefetch then allows. While one exchange is under way the next batch gathers by itself.
/// </summary>
internal sealed partial class LinkSession : ISettler, IDisposable
{
    private static readonly TimeSpan SecondLook = TimeSpan.FromMilliseconds(50);
    private static readonly TimeSpan FirstRest = TimeSpan.FromMilliseconds(200);
    private static readonly TimeSpan LongestRest = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan LongestFarewell = TimeSpan.FromSeconds(2);
    // Whoever asks a peer that is away knows it by then: one that has waited for so long waits for events.
    private static readonly TimeSpan ProvenAfter = TimeSpan.FromSeconds(30);

    private readonly WorkerParts worker;
    private readonly string queue;
    private readonly ReceiverOptions options;
    private readonly IReceivingLink link;
    private readonly bool isBeside;
    private readonly Action works;
    private readonly Credit credit;
    private readonly Handlers handlers;
    private readonly Waiting waiting;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly Loop exchanging, renewing;
    private readonly CancellationTokenSource over;
    private readonly Lock ending = new();
    private readonly ConcurrentDictionary<HandOver, TakenDelivery> held = new();
    private readonly List<Task> following = [];

    private readonly Finished finished;
    private readonly List<Settlement> batch = [];
    private Task<IReadOnlyList<HandOver>>? receiving;
    private long askedAt;
    private Task<Exchange>? underWay;
    private bool isProven;
    private int notSettled;
    private LinkLostException? lost;
    private bool urgent;
    private int? lookedAt;

    /// <param name="worker">For whom it receives.</param>
    /// <param name="link">The link.</param>
    /// <param name="isBeside">Whether there is another, from which most comes.</param>
    /// <param name="abilities">What the broker can do.</param>
    /// <param name="works">Called once something has been received or settled by this link.</param>
    /// <param name="over">Ends the session: cancelled when the host stops, and by itself when the link is lost.</param>
    public LinkSession(
        WorkerParts worker, IReceivingLink link, bool isBeside, BrokerAbilities abilities, Action works,
        CancellationTokenSource over)
    {
        this.worker = worker;
        queue = worker.Binding.Queue;
        options = worker.Binding.Options;
        this.link = link;
        this.isBeside = isBeside;
        this.works = works;
        this.over = over;
        (credit, handlers, clock, logger) = (worker.Credit, worker.Handlers, worker.Clock, worker.Logger);
        finished = new Finished(WorthSettling);
        waiting = new Waiting(abilities, next => held[next.HandOver] = next, Return, clock, over.Token);
        exchanging = new Loop($"Receiving from queue '{queue}'", FirstRest, LongestRest, clock, logger)
        {
            SaysByItself = true,
        };
        renewing = new Loop($"Renewing what is in hand of queue '{queue}'", FirstRest, LongestRest, clock, logger);
    }

    /// <summary>Why nothing can be received or settled at present; null where it can.</summary>
    public string? Problem => exchanging.LastError;

    /// <summary>
    /// Runs until the host stops, and then until what is in hand is settled; or until the link is lost.
    /// </summary>
    /// <exception cref="LinkLostException">The link is lost; handlers go on with what they have of it.</exception>
    public async Task RunAsync()
    {
        using var ended = new CancellationTokenSource();
        // It ticks on while a renewal takes its time, so that none begins too late.
        using var timer = link.RenewEvery is { } every ? new PeriodicTimer(every, clock) : null;
        var kept = timer is null ? Task.CompletedTask
            : renewing.RunAsync(ending => RenewAsync(timer, ending), ended.Token);
        try
        {
            await exchanging.RunAsync(ExchangeAsync, over.Token).ConfigureAwait(false);
            if (lost is null) await FarewellAsync().ConfigureAwait(false);
            if (lost is null) return;
            Abandon();
            throw lost;
        }
        finally
        {
            await ended.CancelAsync().ConfigureAwait(false);
            await kept.ConfigureAwait(false);
        }
    }

    public void Dispose() => finished.Dispose();

    public void Settle(TakenDelivery delivery, Outcome outcome)
    {
        worker.Counts.Note(delivery, outcome);
        bool isOurs, waits;
        lock (ending)
        {
            isOurs = lost is null && !delivery.IsSettled;
            // From now on another stands for it. Once the link is lost none does, nor falls due.
            waits = isOurs && waiting.TryHold(delivery, outcome);
            if (isOurs && !waits) finished.Add(new Settlement(delivery.HandOver, outcome));
        }
        if (waits) credit.Settled(1);
        else if (!isOurs) Drop(delivery);
    }

    private void NoteSetAside(TakenDelivery delivery, string letter, string reason)
    {
        var @event = delivery.TryRead()?.Event;
        LogSetAside(logger, queue, @event?.Type ?? "an event", @event?.Id ?? "that cannot be read", letter, reason);
    }

    private void NoteSetAside(IReadOnlyDictionary<HandOver, string>? letters)
    {
        if (letters is null) return;
        foreach (var settlement in batch)
        {
            if (letters.TryGetValue(settlement.Delivery, out var letter)
                && held.TryGetValue(settlement.Delivery, out var delivery))
                NoteSetAside(delivery, letter, ((Outcome.Rejected)settlement.Outcome).Reason);
        }
    }

    public void Drop(TakenDelivery delivery)
    {
        held.TryRemove(delivery.HandOver, out _);
        credit.Settled(1);
    }

    public async Task<List<TakenDelivery>> SettleOnArrivalAsync(List<TakenDelivery> deliveries)
    {
        // There is nothing to renew any more.
        foreach (var delivery in deliveries) held.TryRemove(delivery.HandOver, out _);
        try
        {
            var settlements = deliveries.ConvertAll(d => new Settlement(d.HandOver, Outcome.Accepted));
            var (took, _) = await link.SettleAsync(settlements, 0, CancellationToken.None).ConfigureAwait(false);
            // A handler that kills the process is not to begin twice.
            await link.ConfirmAsync(CancellationToken.None).ConfigureAwait(false);
            Meters.Settle(queue, settlements);
            for (var i = 0; i < took.Count; i++)
            {
                if (took[i]) deliveries[i].IsSettled = true;
                else deliveries[i].Lose();
            }
        }
        catch (Exception e)
        {
            if (e is LinkLostException gone) Lose(gone);
            LogNotSettled(logger, queue, deliveries.Count, Words.Of(e));
            deliveries.ForEach(d => d.Lose());
        }
        deliveries.FindAll(d => d.IsLost).ForEach(d => d.Drop());
        return deliveries.FindAll(d => !d.IsLost);
    }

    /// <summary>One round: settles what is worth it, takes what has come, and waits until there is more.</summary>
    private async Task ExchangeAsync(CancellationToken stopping)
    {
        try
        {
            await ExchangeOnceAsync(stopping).ConfigureAwait(false);
        }
        catch (LinkLostException e)
        {
            Lose(e);
        }
    }

    private async Task ExchangeOnceAsync(CancellationToken stopping)
    {
        GiveBackSurplus();
        if (urgent || batch.Count > 0 || finished.IsDue) finished.TakeInto(batch);
        if (batch.Count > 0)
        {
            await SettleBatchAsync(receiving is null ? credit.WorthFetching(batch.Count) : 0, stopping)
                .ConfigureAwait(false);
            // What came along with it may have to go back at once.
            if (urgent) return;
        }

        // Events are waited for only when a handler has nothing to do; busy ones fetch as they settle.
        if (receiving is null && (isBeside ? credit.NeededBeside : credit.NeededNow) is > 0 and var needed)
            (receiving, askedAt) = (link.ReceiveAsync(needed, stopping), clock.GetTimestamp());
        if (receiving is { IsCompleted: true } received)
        {
            receiving = null;
            Meters.Exchange(
                "receive", queue, clock.GetElapsedTime(askedAt), received.Exception?.InnerException);
            Take(await received.ConfigureAwait(false));
            Works();
            return;
        }
        if (receiving is not null && clock.GetElapsedTime(askedAt) >= ProvenAfter) Works();
        await WaitAsync(stopping).ConfigureAwait(false);
    }

    /// <summary>The link does what it is for: nothing less is a success.</summary>
    private void Works()
    {
        exchanging.Succeeded();
        if (isProven) return;
        isProven = true;
        works();
    }

    /// <summary>Waits until there is something to settle, something has come, or it is time to look again.</summary>
    private async Task WaitAsync(CancellationToken stopping)
    {
        var patience = Timeout.InfiniteTimeSpan;
        var isToLookAgain = credit is { IsSelfTuned: true, NothingReady: false }
            || (isBeside && receiving is null);
        if (isToLookAgain) patience = Sooner(patience, SecondLook);
        if (receiving is not null && (!isProven || exchanging.Failures > 0))
            patience = Sooner(patience, RoundedUp(ProvenAfter));
        if (receiving is null && credit.PausedFor is { } pause) patience = Sooner(patience, RoundedUp(pause));
        var changed = receiving is null ? Task.WhenAny(finished.Due, credit.Attention(lookedAt))
            : Task.WhenAny(finished.Due, receiving, credit.TooMuch(lookedAt));
        await (patience == Timeout.InfiniteTimeSpan ? changed.WaitAsync(stopping) : Task.WhenAny(
            changed, Task.Delay(patience, clock, stopping)))
            .ConfigureAwait(false);
    }

    private static TimeSpan Sooner(TimeSpan patience, TimeSpan other) =>
        patience == Timeout.InfiniteTimeSpan || patience > other ? other : patience;

    /// <summary>
    /// How many finished deliveries are worth an exchange. With each settlement more is fetched: so it comes at once
    /// when a handler has run out of work. A link that brings what there is by itself needs it only to have credit.
    /// </summary>
    private int WorthSettling() =>
        Math.Min(PrefetchTuner.Most, credit.WorthSettling(bringsByItself: link.RenewEvery is null));

    /// <summary>To whole milliseconds: timers cut off the rest, and would end at once again and again.</summary>
    private static TimeSpan RoundedUp(TimeSpan time) => TimeSpan.FromMilliseconds(Math.Ceiling(time.TotalMilliseconds));

    private void Take(IReadOnlyList<HandOver> deliveries)
    {
        if (deliveries.Count == 0) return;
        using var span = Spans.Receive(queue, deliveries);
        Meters.Receive(queue, deliveries.Count);
        var alone = held.IsEmpty && deliveries.Count == 1 && credit.Now.InHand == 0;
        var suspect = deliveries.Any(IsSuspect);
        var taken = deliveries.Select(Hold).ToList();
        foreach (var delivery in taken) held.TryAdd(delivery.HandOver, delivery);
        if (suspect && !alone)
        {
            LogOneByOne(logger, queue, taken.Count);
            credit.Refused(taken.Count);
            taken.ForEach(GiveBack);
            return;
        }
        credit.Fetched(taken.Count, alone: suspect);
        worker.Handler.Expect(taken);
        foreach (var delivery in taken)
        {
            if (worker.Unfinished.Find(delivery) is not { } first)
            {
                handlers.Add(delivery);
                continue;
            }
            credit.TakenBack();
            credit.Settled(1);
            following.RemoveAll(static task => task.IsCompleted);
            following.Add(FollowAsync(delivery, first));
        }
    }

    private TakenDelivery Hold(HandOver delivery)
    {
        var (attempt, firstTried, began) = worker.Counts.Next(delivery);
        return new TakenDelivery(delivery, attempt, firstTried, began, this);
    }

    /// <summary>
    /// An event in whose hands workers have died twice in a row may be what kills them. It is handled when nothing else
    /// is in hand, so that it takes no others with it: they would run out of attempts along with it.
    /// </summary>
    private bool IsSuspect(HandOver delivery) =>
        delivery.Abandoned > 0 && delivery.Abandoned >= Math.Min(2, options.MaxAttempts - 1);

    /// <summary>
    /// A handler of this process has the event, from a link that is gone: what it decides is the outcome.
    /// </summary>
    private async Task FollowAsync(TakenDelivery delivery, TakenDelivery first)
    {
        var outcome = await first.WhenDecided().ConfigureAwait(false);
        credit.Returned();
        if (outcome is (null or Outcome.ReleasedOutcome) && !over.IsCancellationRequested)
        {
            handlers.Add(delivery);
            return;
        }
        credit.TakenBack();
        delivery.Settle(outcome ?? Outcome.Released);
    }

    /// <summary>What has waited here comes again.</summary>
    private void Return(TakenDelivery delivery)
    {
        lock (ending)
        {
            if (lost is null)
            {
                credit.Returned();
                handlers.Add(delivery);
                return;
            }
        }
        LetGo(delivery);
    }

    /// <summary>It has waited for nothing: its link is lost, and it comes again by another.</summary>
    private void LetGo(TakenDelivery delivery)
    {
        delivery.TryDecide(null);
        held.TryRemove(delivery.HandOver, out _);
    }

    /// <summary>
    /// What has not been begun, and need not wait here: others can begin it sooner. In a pause nobody is to: it is
    /// passed by, so that the next to be tried is another.
    /// </summary>
    private void GiveBackSurplus()
    {
        var isPaused = credit.PausedFor is not null;
        var surplus = credit.Surplus;
        if (isPaused || surplus > 0) link.Withdraw();
        lookedAt = null;
        if (surplus == 0) return;
        var changes = credit.Changes;
        var taken = handlers.TakeBack(this, surplus);
        // The rest is another link's, or is just being taken up: to look for it again at once would find no more.
        if (taken.Count < surplus) lookedAt = changes;
        foreach (var delivery in taken)
        {
            if (isPaused) PassBy(delivery);
            else GiveBack(delivery);
        }
    }

    private void PassBy(TakenDelivery delivery)
    {
        var later = Redelivery.Later(clock.GetElapsedTime(delivery.FirstTried), Random.Shared.NextDouble());
        delivery.Settle(new Outcome.Modified(later, "passed by: the brake of the queue is on") { Counts = false });
        urgent = true;
    }

    private void GiveBack(TakenDelivery delivery)
    {
        if (!delivery.TryDecide(Outcome.Released)) return;
        batch.Add(new Settlement(delivery.HandOver, Outcome.Released));
        urgent = true;
    }

    /// <summary>
    /// Settles what is in the batch. What a failure left in it is settled first, without fetching, and one by one where
    /// it failed again: what cannot be settled must not keep the others. Given up, an event comes again, to be absorbed
    /// by the inbox: late, but nothing is lost.
    /// </summary>
    private async Task SettleBatchAsync(int toFetch, CancellationToken stopping)
    {
        if (notSettled >= 2 && batch.Count > 1)
        {
            foreach (var settlement in batch.ToList())
                await SettleOneAsync(settlement, stopping).ConfigureAwait(false);
            return;
        }
        var began = clock.GetTimestamp();
        using var span = Spans.Settle(queue, batch);
        // It is not cancelled: what is handed over along with it must be received. But a stop does not wait for it.
        underWay = link.SettleAsync(batch, notSettled > 0 ? 0 : toFetch, CancellationToken.None);
        try
        {
            await EndExchangeAsync(stopping).ConfigureAwait(false);
        }
        catch (Exception e) when (!stopping.IsCancellationRequested)
        {
            notSettled++;
            span.Failed(e);
            Meters.Exchange("settle", queue, clock.GetElapsedTime(began), e);
            throw;
        }
        Meters.Exchange("settle", queue, clock.GetElapsedTime(began));
        if (!isBeside) credit.Exchanged(link.RoundTrip ?? clock.GetElapsedTime(began));
    }

    private async Task EndExchangeAsync(CancellationToken stopping)
    {
        if (underWay is not { } exchange) return;
        await ((Task)exchange).WaitAsync(stopping).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        if (!exchange.IsCompleted) stopping.ThrowIfCancellationRequested();
        underWay = null;
        var exchanged = await exchange.ConfigureAwait(false);
        var (took, deliveries) = exchanged;
        NoteSetAside(exchanged.DeadLetters);
        var others = took.Count(t => !t);
        if (others > 0) LogLostLeases(logger, queue, others);
        Meters.Settle(queue, batch);
        Settled(CollectionsMarshal.AsSpan(batch));
        batch.Clear();
        urgent = false;
        notSettled = 0;
        Works();
        Take(deliveries);
    }

    private async Task SettleOneAsync(Settlement settlement, CancellationToken cancellationToken)
    {
        try
        {
            var exchanged = await link.SettleAsync([settlement], 0, cancellationToken).ConfigureAwait(false);
            if (!exchanged.Took[0]) LogLostLeases(logger, queue, 1);
            Meters.Settle(queue, [settlement]);
            NoteSetAside(exchanged.DeadLetters);
        }
        catch (Exception e) when (e is not (OperationCanceledException or CourierException { IsTransient: true }
            or LinkLostException))
        {
            LogNotSettled(logger, queue, 1, Words.Of(e));
            // Where there is no lease that runs out, only the end of the link has it come again.
            if (link.RenewEvery is null)
                throw new LinkLostException($"an event of queue '{queue}' could not be settled: {Words.Of(e)}", e);
        }
        Settled(settlement);
        batch.Remove(settlement);
        if (batch.Count > 0) return;
        notSettled = 0;
        Works();
    }

    private void Settled(params ReadOnlySpan<Settlement> settlements)
    {
        foreach (var settlement in settlements) held.TryRemove(settlement.Delivery, out _);
        credit.Settled(settlements.Length);
    }

    /// <summary>
    /// The host stops: what has not been begun goes back at once, and what handlers still finish is settled, for as
    /// long as they may take and a little longer.
    /// </summary>
    private async Task FarewellAsync()
    {
        using var limit = new CancellationTokenSource(options.StopLimit + Attempt.TimeToEnd + LongestFarewell, clock);
        var ended = handlers.FinishAsync();
        link.Withdraw();
        foreach (var delivery in waiting.TakeBack()) Return(delivery);
        for (var failures = 0; lost is null && !limit.IsCancellationRequested;)
        {
            var isLast = ended.IsCompleted && following.TrueForAll(static task => task.IsCompleted);
            try
            {
                // One may still be under way from before the stop; until it is over, its batch must be left alone.
                await EndExchangeAsync(limit.Token).ConfigureAwait(false);
                await EndReceivingAsync(limit.Token).ConfigureAwait(false);
                handlers.TakeBack(this).ForEach(GiveBack);
                finished.TakeInto(batch);
                if (batch.Count == 0 && isLast) return;
                if (batch.Count > 0) await SettleBatchAsync(0, limit.Token).ConfigureAwait(false);
                failures = 0;
                if (isLast) continue;
                await Task.WhenAny(Task.WhenAll([ended, .. following]), finished.Due).WaitAsync(limit.Token)
                    .ConfigureAwait(false);
            }
            catch (LinkLostException e)
            {
                Lose(e);
            }
            catch (Exception e) when (!limit.IsCancellationRequested)
            {
                LogNotSettled(logger, queue, batch.Count, Words.Of(e));
                var rest = BackOff.Bound(++failures, FirstRest, LongestRest);
                await Task.Delay(rest, clock, limit.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
            catch (Exception)
            {
                // There is no time left.
            }
        }
    }

    /// <summary>What came at the moment of the stop is in hand, and has to be given back like the rest.</summary>
    private async Task EndReceivingAsync(CancellationToken limit)
    {
        if (receiving is not { } last) return;
        await ((Task)last).WaitAsync(limit).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        receiving = null;
        if (last.IsCompletedSuccessfully) Take(await last.ConfigureAwait(false));
    }

    private void Lose(LinkLostException e)
    {
        lock (ending) lost ??= e;
        try
        {
            over.Cancel();
        }
        catch (ObjectDisposedException)
        {
            // The session has ended already.
        }
    }

    /// <summary>
    /// The link is lost: what handlers have is theirs to finish, and everything else comes again by another link.
    /// </summary>
    private void Abandon()
    {
        handlers.TakeBack(this).ForEach(delivery => delivery.Drop());
        waiting.TakeBack().ForEach(LetGo);
        finished.TakeInto(batch);
        Settled(CollectionsMarshal.AsSpan(batch));
        batch.Clear();
        foreach (var delivery in held.Values) worker.Unfinished.Add(delivery);
    }

    private async Task RenewAsync(PeriodicTimer timer, CancellationToken finished)
    {
        await timer.WaitForNextTickAsync(finished).ConfigureAwait(false);
        var deliveries = held.Keys.ToList();
        if (deliveries.Count == 0) return;
        try
        {
            var ours = await link.RenewAsync(deliveries, finished).ConfigureAwait(false);
            for (var i = 0; i < deliveries.Count; i++)
            {
                // What has been decided meanwhile may have been settled: that answer counts, not this one.
                if (!ours[i] && held.TryGetValue(deliveries[i], out var delivery) && !delivery.IsDecided)
                    delivery.Lose();
            }
        }
        catch (LinkLostException e)
        {
            Lose(e);
        }
    }

    [LoggerMessage(214, LogLevel.Warning,
        "Queue {Queue}: {Count} deliveries had been handed to others when they were settled; their lease was lost")]
    private static partial void LogLostLeases(ILogger logger, string queue, int count);

    [LoggerMessage(215, LogLevel.Warning,
        "Queue {Queue}: {Count} deliveries could not be settled; what is not settled comes again: {Problem}")]
    private static partial void LogNotSettled(ILogger logger, string queue, int count, string problem);

    [LoggerMessage(
        202, LogLevel.Error, "Queue {Queue}: {Type} {Id} is set aside as dead letter {Letter}: {Reason}")]
    private static partial void LogSetAside(
        ILogger logger, string queue, string type, string id, string letter, string reason);

    [LoggerMessage(
        219, LogLevel.Warning,
        "Queue {Queue}: among {Count} deliveries are some that workers died with, more than once; they are handled one "
        + "at a time")]
    private static partial void LogOneByOne(ILogger logger, string queue, int count);
}
