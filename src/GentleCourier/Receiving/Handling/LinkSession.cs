using GentleCourier.Engines;
using GentleCourier.Telemetry;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// The life of one link. One loop speaks with it: it does what the <see cref="Deliveries"/> say, settles what has been
/// decided and, in the same breath, fetches as much as the prefetch then allows. While one exchange is under way the
/// next batch gathers by itself.
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
    private readonly Action works;
    private readonly Deliveries deliveries;
    private readonly Deliveries.LinkWait own;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly Loop exchanging, renewing;
    private readonly CancellationTokenSource over;
    private readonly List<Settlement> batch = [];
    private Task<IReadOnlyList<HandOver>>? receiving;
    private CancellationTokenSource? waiting;
    private long askedAt;
    private Task<Exchange>? underWay;
    private bool isProven, looksAgain;
    private int notSettled;
    private LinkLostException? lost;

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
        this.works = works;
        this.over = over;
        (deliveries, clock, logger) = (worker.Deliveries, worker.Clock, worker.Logger);
        own = deliveries.Open(new LinkAccount
        {
            IsBeside = isBeside, BringsByItself = link.RenewEvery is null,
            HoldsDelays = !abilities.HasFlag(BrokerAbilities.Delays), Settler = this,
        });
        exchanging = new Loop($"Receiving from queue '{queue}'", FirstRest, LongestRest, clock, logger)
        {
            SaysByItself = true,
        };
        renewing = new Loop($"Renewing what is in hand of queue '{queue}'", FirstRest, LongestRest, clock, logger);
    }

    /// <summary>Why nothing can be received or settled at present; null where it can.</summary>
    public string? Problem => exchanging.LastError;

    private List<TakenDelivery> Sent => own.Account.Sent;

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
            // What is still in hand after a farewell comes again as well.
            deliveries.Lose(own);
            if (lost is not null) throw lost;
        }
        finally
        {
            await ended.CancelAsync().ConfigureAwait(false);
            await kept.ConfigureAwait(false);
        }
    }

    public void Dispose()
    {
        deliveries.Close(own);
        waiting?.Dispose();
    }

    public async Task<List<TakenDelivery>> SettleOnArrivalAsync(List<TakenDelivery> arrived)
    {
        // There is nothing to renew any more.
        foreach (var delivery in arrived) delivery.IsSettled = true;
        try
        {
            var settlements = arrived.ConvertAll(d => new Settlement(d.HandOver, Outcome.Accepted));
            var (took, _) = await link.SettleAsync(settlements, 0, CancellationToken.None).ConfigureAwait(false);
            // A handler that kills the process is not to begin twice.
            await link.ConfirmAsync(CancellationToken.None).ConfigureAwait(false);
            Meters.Settle(queue, settlements);
            for (var i = 0; i < took.Count; i++)
            {
                if (!took[i]) arrived[i].Lose();
                else worker.Witness?.Settled(worker.Binding, arrived[i], Outcome.Accepted);
            }
        }
        catch (Exception e)
        {
            if (e is LinkLostException gone) Lose(gone);
            LogNotSettled(logger, queue, arrived.Count, Words.Of(e));
            arrived.ForEach(d => d.Lose());
        }
        arrived.FindAll(d => d.IsLost).ForEach(d => d.Drop());
        return arrived.FindAll(d => !d.IsLost);
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
        var step = Next();
        if (step.Settles)
        {
            await SettleBatchAsync(step.Fetches, stopping).ConfigureAwait(false);
            return;
        }
        // Events are waited for only when a handler has nothing to do; busy ones fetch as they settle.
        if (step.Receives > 0)
        {
            waiting?.Dispose();
            waiting = CancellationTokenSource.CreateLinkedTokenSource(stopping);
            (receiving, askedAt) = (link.ReceiveAsync(step.Receives, waiting.Token), clock.GetTimestamp());
        }
        if (receiving is { IsCompleted: true } received)
        {
            receiving = null;
            // Cancelled by nobody it has failed, as whatever else fails.
            if (received.IsCanceled && waiting!.IsCancellationRequested && !stopping.IsCancellationRequested) return;
            Meters.Exchange(
                "receive", queue, clock.GetElapsedTime(askedAt), received.Exception?.InnerException);
            Take(await received.ConfigureAwait(false));
            Works();
            return;
        }
        if (receiving is not null && clock.GetElapsedTime(askedAt) >= ProvenAfter) Works();
        await WaitAsync(stopping).ConfigureAwait(false);
    }

    private Step Next()
    {
        var step = deliveries.Next(own, isReceiving: receiving is not null);
        if (step.EndsReceiving) waiting?.Cancel();
        if (step.Withdraws) link.Withdraw();
        looksAgain = step.LooksAgain;
        return step;
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
        var changed = deliveries.Changed(own, isReceiving: receiving is not null);
        if (receiving is not null) changed = Task.WhenAny(changed, receiving);
        var patience = looksAgain ? SecondLook
            : receiving is not null && (!isProven || exchanging.Failures > 0) ? ProvenAfter
            : Timeout.InfiniteTimeSpan;
        await (patience == Timeout.InfiniteTimeSpan ? changed.WaitAsync(stopping)
            : Task.WhenAny(changed, Task.Delay(patience, clock, stopping))).ConfigureAwait(false);
    }

    private void Take(IReadOnlyList<HandOver> come)
    {
        if (come.Count == 0) return;
        using var span = Spans.Receive(queue, come);
        Meters.Receive(queue, come.Count);
        var taken = come.Select(Hold).ToList();
        worker.Handler.Expect(taken);
        if (!deliveries.Came(own, taken, come.Any(IsSuspect))) LogOneByOne(logger, queue, taken.Count);
    }

    private TakenDelivery Hold(HandOver delivery) =>
        new(delivery, worker.Counts.Next(delivery), own.Account, deliveries);

    /// <summary>An event in whose hands workers have died twice in a row may be what kills them.</summary>
    private bool IsSuspect(HandOver delivery) =>
        delivery.Abandoned > 0 && delivery.Abandoned >= Math.Min(2, options.MaxAttempts - 1);

    /// <summary>
    /// Settles what is sent. What a failure left is settled first, without fetching, and one by one where it failed
    /// again: what cannot be settled must not keep the others. Given up, an event comes again, to be absorbed by the
    /// inbox: late, but nothing is lost.
    /// </summary>
    private async Task SettleBatchAsync(int toFetch, CancellationToken stopping)
    {
        if (notSettled >= 2 && Sent.Count > 1)
        {
            foreach (var delivery in Sent.ToList()) await SettleOneAsync(delivery, stopping).ConfigureAwait(false);
            return;
        }
        var began = clock.GetTimestamp();
        batch.Clear();
        foreach (var delivery in Sent) batch.Add(new Settlement(delivery.HandOver, delivery.Outcome!));
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
        if (!own.Account.IsBeside) deliveries.Exchanged(link.RoundTrip ?? clock.GetElapsedTime(began));
    }

    private async Task EndExchangeAsync(CancellationToken stopping)
    {
        if (underWay is not { } exchange) return;
        await ((Task)exchange).WaitAsync(stopping).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        if (!exchange.IsCompleted) stopping.ThrowIfCancellationRequested();
        underWay = null;
        var exchanged = await exchange.ConfigureAwait(false);
        var others = exchanged.Took.Count(t => !t);
        if (others > 0) LogLostLeases(logger, queue, others);
        Meters.Settle(queue, batch);
        NoteSetAside(Sent, exchanged.DeadLetters);
        for (var i = 0; i < Sent.Count && worker.Witness is not null; i++) Witnessed(Sent[i], exchanged.Took[i]);
        deliveries.Told(own);
        notSettled = 0;
        Works();
        Take(exchanged.Deliveries);
    }

    private async Task SettleOneAsync(TakenDelivery delivery, CancellationToken cancellationToken)
    {
        var settlement = new Settlement(delivery.HandOver, delivery.Outcome!);
        try
        {
            var exchanged = await link.SettleAsync([settlement], 0, cancellationToken).ConfigureAwait(false);
            if (!exchanged.Took[0]) LogLostLeases(logger, queue, 1);
            Meters.Settle(queue, [settlement]);
            NoteSetAside([delivery], exchanged.DeadLetters);
            Witnessed(delivery, exchanged.Took[0]);
        }
        catch (Exception e) when (e is not (OperationCanceledException or CourierException { IsTransient: true }
            or LinkLostException))
        {
            LogNotSettled(logger, queue, 1, Words.Of(e));
            // Where there is no lease that runs out, only the end of the link has it come again.
            if (link.RenewEvery is null)
                throw new LinkLostException($"an event of queue '{queue}' could not be settled: {Words.Of(e)}", e);
        }
        deliveries.Told(own, delivery);
        if (Sent.Count > 0) return;
        notSettled = 0;
        Works();
    }

    private void Witnessed(TakenDelivery delivery, bool isTold) => worker.Witness?.Settled(
        worker.Binding, delivery, isTold ? delivery.Outcome! : Outcome.Released);

    private void NoteSetAside(List<TakenDelivery> settled, IReadOnlyDictionary<HandOver, string>? letters)
    {
        if (letters is null) return;
        foreach (var delivery in settled)
        {
            if (!letters.TryGetValue(delivery.HandOver, out var letter)) continue;
            var @event = delivery.TryRead()?.Event;
            LogSetAside(logger, queue, @event?.Type ?? "an event", @event?.Id ?? "that cannot be read", letter,
                ((Outcome.Rejected)delivery.Outcome!).Reason);
        }
    }

    /// <summary>
    /// The host stops: what has not been begun goes back at once, and what handlers still finish is settled, for as
    /// long as they may take and a little longer.
    /// </summary>
    private async Task FarewellAsync()
    {
        using var limit = new CancellationTokenSource(options.StopLimit + Attempt.TimeToEnd + LongestFarewell, clock);
        var ended = worker.Handlers.FinishAsync();
        link.Withdraw();
        deliveries.Stop(own);
        for (var failures = 0; lost is null && !limit.IsCancellationRequested;)
        {
            var haveEnded = ended.IsCompleted;
            var isLast = haveEnded && !deliveries.IsFollowing(own);
            try
            {
                // One may still be under way from before the stop; until it is over, its batch must be left alone.
                await EndExchangeAsync(limit.Token).ConfigureAwait(false);
                await EndReceivingAsync(limit.Token).ConfigureAwait(false);
                var step = Next();
                if (step.Settles) await SettleBatchAsync(0, limit.Token).ConfigureAwait(false);
                else if (isLast) return;
                failures = 0;
                if (step.Settles) continue;
                var changed = deliveries.Changed(own, isReceiving: false);
                await (haveEnded ? changed : Task.WhenAny(ended, changed)).WaitAsync(limit.Token)
                    .ConfigureAwait(false);
            }
            catch (LinkLostException e)
            {
                Lose(e);
            }
            catch (Exception e) when (!limit.IsCancellationRequested)
            {
                LogNotSettled(logger, queue, Sent.Count, Words.Of(e));
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
        lost ??= e;
        deliveries.Lose(own);
        try
        {
            over.Cancel();
        }
        catch (ObjectDisposedException)
        {
            // The session has ended already.
        }
    }

    private async Task RenewAsync(PeriodicTimer timer, CancellationToken finished)
    {
        await timer.WaitForNextTickAsync(finished).ConfigureAwait(false);
        var held = deliveries.Held(own);
        if (held.Count == 0) return;
        try
        {
            var ours = await link.RenewAsync(held.ConvertAll(static d => d.HandOver), finished).ConfigureAwait(false);
            // What has been decided meanwhile may have been settled: that answer counts, not this one.
            for (var i = 0; i < held.Count; i++)
                if (!ours[i] && !held[i].IsDecided) held[i].Lose();
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
