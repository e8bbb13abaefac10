using System.Collections.Concurrent;
using System.Threading.Channels;
using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// The life of one link. One loop speaks with it: it settles what the handlers have finished and, in the same breath,
/// fetches as much as the prefetch then allows. While one exchange is under way the next batch gathers by itself.
/// </summary>
internal sealed partial class Session : ISettler
{
    // While handlers have work at hand, finished deliveries are gathered for this long, or to half the prefetch.
    private static readonly TimeSpan Gathering = TimeSpan.FromMilliseconds(5);
    private static readonly TimeSpan SecondLook = TimeSpan.FromMilliseconds(50);
    private static readonly TimeSpan FirstRetry = TimeSpan.FromMilliseconds(200);
    private static readonly TimeSpan LongestRetry = TimeSpan.FromSeconds(15);

    private readonly QueueBinding binding;
    private readonly string queue;
    private readonly ReceiverOptions options;
    private readonly IReceivingLink link;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly Credit credit;
    private readonly DeliveryHandler handler;
    private readonly ConcurrentDictionary<LeaseToken, Held> held = new();

    // Both channels are bounded by the prefetch: nothing enters them that credit was not taken for.
    private readonly Channel<Held> toHandle = Channel.CreateUnbounded<Held>(new() { SingleWriter = true });
    private readonly Channel<Settlement> toSettle = Channel.CreateUnbounded<Settlement>();
    private readonly List<Settlement> batch = [];
    private bool urgent;
    private long lastSettled;

    public Session(
        QueueBinding binding, IReceivingLink link, DeliveryHandler handler, TimeProvider clock, ILogger logger)
    {
        this.binding = binding;
        queue = binding.Queue;
        options = binding.Options;
        this.link = link;
        this.handler = handler;
        this.clock = clock;
        this.logger = logger;
        credit = new Credit(options.Prefetch, options.Parallel, binding.BatchSize, clock);
    }

    /// <summary>
    /// Runs until <paramref name="stopping"/> or until the broker fails, and then until what is in hand is settled.
    /// </summary>
    /// <param name="working">Called whenever the broker has given something.</param>
    /// <param name="stopping">Says that the host stops.</param>
    public async Task RunAsync(Action working, CancellationToken stopping)
    {
        using var finished = new CancellationTokenSource();
        using var handlers = new Handlers(
            binding, toHandle.Reader, handler, credit, this, SettleOnArrivalAsync, clock, logger);
        handlers.Start(stopping);
        var renewing = RenewAsync(finished.Token);
        try
        {
            await ExchangeAsync(working, stopping).ConfigureAwait(false);
        }
        finally
        {
            toHandle.Writer.Complete();
            var settling = SettleRestAsync();
            await handlers.FinishAsync(stopping).ConfigureAwait(false);
            toSettle.Writer.Complete();
            await settling.ConfigureAwait(false);
            await finished.CancelAsync().ConfigureAwait(false);
            await renewing.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    public void Settle(Held delivery, Outcome outcome)
    {
        if (!delivery.TryDecide()) return;
        if (delivery.IsSettled) Forget(delivery);
        else toSettle.Writer.TryWrite(new Settlement(delivery.HandOver.Lease, outcome));
    }

    public void Drop(Held delivery)
    {
        if (delivery.TryDecide()) Forget(delivery);
    }

    public void DoesNotEnd() => credit.Stuck(1);

    public void Ended() => credit.Stuck(-1);

    private void Forget(Held delivery)
    {
        held.TryRemove(delivery.HandOver.Lease, out _);
        credit.Settled(1);
    }

    private async Task ExchangeAsync(Action working, CancellationToken stopping)
    {
        Task<IReadOnlyList<HandOver>>? receiving = null;
        Task<bool>? finishing = null;
        try
        {
            while (true)
            {
                stopping.ThrowIfCancellationRequested();
                GiveBackSurplus();
                while (toSettle.Reader.TryRead(out var settlement)) batch.Add(settlement);
                var patience = batch.Count == 0 ? Timeout.InfiniteTimeSpan : Patience();
                if (batch.Count > 0 && patience <= TimeSpan.Zero)
                {
                    await SettleBatchAsync(receiving is null ? credit.WorthFetching(batch.Count) : 0)
                        .ConfigureAwait(false);
                    lastSettled = clock.GetTimestamp();
                    // What came along with it may have to go back at once.
                    if (urgent) continue;
                    patience = Timeout.InfiniteTimeSpan;
                }

                // Events are waited for only when a handler has nothing to do; busy ones fetch as they settle.
                if (receiving is null && credit.NeededNow is > 0 and var needed)
                    receiving = link.ReceiveAsync(needed, stopping);
                if (receiving is { IsCompleted: true })
                {
                    Take(await receiving.ConfigureAwait(false));
                    receiving = null;
                    working();
                    continue;
                }

                if (finishing is null or { IsCompleted: true })
                    finishing = toSettle.Reader.WaitToReadAsync(CancellationToken.None).AsTask();
                if (credit is { IsSelfTuned: true, NothingReady: false } && (
                    patience < TimeSpan.Zero || patience > SecondLook)) patience = SecondLook;
                var changed = receiving is null ? Task.WhenAny(finishing, credit.Attention)
                    : Task.WhenAny(finishing, receiving);
                await (patience == Timeout.InfiniteTimeSpan ? changed.WaitAsync(stopping) : Task.WhenAny(
                    changed, Task.Delay(patience, clock, stopping)))
                    .ConfigureAwait(false);
            }
        }
        finally
        {
            // What came at the moment of the stop is in hand, and has to be given back like the rest.
            if (receiving is not null)
            {
                await ((Task)receiving).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                if (receiving.IsCompletedSuccessfully) Take(await receiving.ConfigureAwait(false));
            }
        }
    }

    /// <summary>
    /// How long what has been finished may still gather: not at all when a handler has run out of work.
    /// </summary>
    private TimeSpan Patience() =>
        urgent || batch.Count >= (credit.Limit + 1) / 2 || batch.Count >= PrefetchTuner.Most || credit.NothingReady
        ? TimeSpan.Zero
        : RoundedUp(Gathering - clock.GetElapsedTime(lastSettled));

    /// <summary>To whole milliseconds: timers cut off the rest, and would end at once again and again.</summary>
    private static TimeSpan RoundedUp(TimeSpan time) => TimeSpan.FromMilliseconds(Math.Ceiling(time.TotalMilliseconds));

    private void Take(IReadOnlyList<HandOver> deliveries)
    {
        if (deliveries.Count == 0) return;
        var alone = held.IsEmpty && deliveries.Count == 1;
        var suspect = deliveries.Any(IsSuspect);
        foreach (var delivery in deliveries) held.TryAdd(delivery.Lease, new Held(delivery));
        if (suspect && !alone)
        {
            LogOneByOne(logger, queue, deliveries.Count);
            credit.Refused(deliveries.Count);
            foreach (var delivery in deliveries) GiveBack(held[delivery.Lease]);
            return;
        }
        credit.Fetched(deliveries.Count, alone: suspect);
        var expected = deliveries.Select(d => held[d.Lease]).ToList();
        handler.Expect(expected);
        expected.ForEach(delivery => toHandle.Writer.TryWrite(delivery));
    }

    /// <summary>
    /// An event in whose hands workers have died twice in a row may be what kills them. It is handled when nothing else
    /// is in hand, so that it takes no others with it: they would run out of attempts along with it.
    /// </summary>
    private bool IsSuspect(HandOver delivery) =>
        delivery.Abandoned > 0 && delivery.Abandoned >= Math.Min(2, options.MaxAttempts - 1);

    /// <summary>What has not been begun, and need not wait here: others can begin it sooner.</summary>
    private void GiveBackSurplus()
    {
        for (var surplus = credit.Surplus; surplus > 0 && toHandle.Reader.TryRead(out var delivery); surplus--)
        {
            credit.GivenBack();
            GiveBack(delivery);
        }
    }

    private void GiveBack(Held delivery)
    {
        if (!delivery.TryDecide()) return;
        batch.Add(new Settlement(delivery.HandOver.Lease, Outcome.Released));
        urgent = true;
    }

    /// <summary>Settles, without fetching any more, until the handlers are done.</summary>
    private async Task SettleRestAsync()
    {
        do
        {
            while (toSettle.Reader.TryRead(out var settlement)) batch.Add(settlement);
            if (batch.Count > 0) await SettleBatchAsync(toFetch: 0).ConfigureAwait(false);
        }
        while (await toSettle.Reader.WaitToReadAsync(CancellationToken.None).ConfigureAwait(false));
    }

    /// <summary>
    /// Settles, and tries again while the leases may still be ours. Given up, the events come again after the lease, to
    /// be absorbed by the inbox: late, but nothing is lost.
    /// </summary>
    private async Task SettleBatchAsync(int toFetch)
    {
        var began = clock.GetTimestamp();
        for (var failures = 1; ; failures++)
        {
            try
            {
                var (took, deliveries) = await link.SettleAsync(batch, toFetch, CancellationToken.None)
                    .ConfigureAwait(false);
                credit.Exchanged(clock.GetElapsedTime(began));
                var lost = took.Count(t => !t);
                if (lost > 0) LogLostLeases(logger, queue, lost);
                Settled();
                Take(deliveries);
                return;
            }
            catch (Exception e)
            {
                LogNotSettled(logger, queue, batch.Count, e.Message);
                if (clock.GetElapsedTime(began) > options.Lease)
                {
                    Settled();
                    return;
                }
                await Task.Delay(BackOff.Bound(failures, FirstRetry, LongestRetry), clock).ConfigureAwait(false);
            }
        }
    }

    private void Settled()
    {
        foreach (var settlement in batch) held.TryRemove(settlement.Lease, out _);
        credit.Settled(batch.Count);
        batch.Clear();
        urgent = false;
    }

    /// <summary>
    /// Settles what is about to be handled. What could not be settled is left to its lease, unhandled.
    /// </summary>
    private async Task<List<Held>> SettleOnArrivalAsync(List<Held> deliveries)
    {
        // There is no lease to renew any more.
        foreach (var delivery in deliveries) held.TryRemove(delivery.HandOver.Lease, out _);
        try
        {
            var settlements = deliveries.ConvertAll(d => new Settlement(d.HandOver.Lease, Outcome.Accepted));
            var (took, _) = await link.SettleAsync(settlements, 0, CancellationToken.None).ConfigureAwait(false);
            for (var i = 0; i < took.Count; i++)
            {
                if (took[i]) deliveries[i].IsSettled = true;
                else deliveries[i].Lose();
            }
        }
        catch (Exception e)
        {
            LogNotSettled(logger, queue, deliveries.Count, e.Message);
            deliveries.ForEach(d => d.Lose());
        }
        deliveries.FindAll(d => d.IsLost).ForEach(Drop);
        return deliveries.FindAll(d => !d.IsLost);
    }

    private async Task RenewAsync(CancellationToken finished)
    {
        using var timer = new PeriodicTimer(options.Lease / 3, clock);
        while (await timer.WaitForNextTickAsync(finished).ConfigureAwait(false))
        {
            var leases = held.Keys.ToList();
            if (leases.Count == 0) continue;
            try
            {
                var ours = await link.RenewAsync(leases, finished).ConfigureAwait(false);
                for (var i = 0; i < leases.Count; i++)
                {
                    // What has been decided meanwhile may have been settled: that answer counts, not this one.
                    if (!ours[i] && held.TryGetValue(leases[i], out var delivery) && !delivery.IsDecided)
                        delivery.Lose();
                }
            }
            catch (Exception e) when (e is not OperationCanceledException)
            {
                LogNotRenewed(logger, queue, leases.Count, e.Message);
            }
        }
    }

    [LoggerMessage(214, LogLevel.Warning,
        "Queue {Queue}: {Count} deliveries had been handed to others when they were settled; their lease was lost")]
    private static partial void LogLostLeases(ILogger logger, string queue, int count);

    [LoggerMessage(215, LogLevel.Warning, "Queue {Queue}: {Count} deliveries could not be settled: {Problem}")]
    private static partial void LogNotSettled(ILogger logger, string queue, int count, string problem);

    [LoggerMessage(
        216, LogLevel.Warning, "Queue {Queue}: the leases of {Count} deliveries could not be renewed: {Problem}")]
    private static partial void LogNotRenewed(ILogger logger, string queue, int count, string problem);

    [LoggerMessage(
        219, LogLevel.Warning,
        "Queue {Queue}: among {Count} deliveries are some that workers died with, more than once; they are handled one "
        + "at a time")]
    private static partial void LogOneByOne(ILogger logger, string queue, int count);
}
