using System.Threading.Channels;
using GentleCourier.Engines;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;

namespace GentleCourier.Companions;

/// <summary>
/// A link of a broker that has a companion. The companion's copy is written before the broker's delivery is accepted: a
/// kill between the two brings the delivery again, and the companion, which has it, does not take it twice.
/// </summary>
internal sealed class LinkWithCompanion : IReceivingLink
{
    // Beyond so many, nothing further is received until they are taken over.
    private const int MostInDoubt = 100;

    private static readonly TimeSpan FirstRest = TimeSpan.FromMilliseconds(200), LongestRest = TimeSpan.FromSeconds(5),
        LongestFarewell = TimeSpan.FromSeconds(1);

    // How often what was handled is counted.
    private static readonly TimeSpan Count = TimeSpan.FromSeconds(10);

    private readonly IReceivingLink link;
    private readonly IDepths? depths;
    private readonly ITakeOver companion;
    private readonly TimeProvider clock;
    private readonly string queue, worker;
    // What may have been begun before: nobody has counted its attempts.
    private readonly Channel<HandOver> inDoubt = Channel.CreateBounded<HandOver>(MostInDoubt);
    private readonly List<HandOver> takingOver = [];
    private readonly CancellationTokenSource ending = new();
    private readonly Task taking, counting;
    private LinkLostException? lost;
    private long accepted;

    /// <param name="link">The broker's link.</param>
    /// <param name="depths">What tells how many events wait at the broker; null where nothing does.</param>
    /// <param name="companion">The companion.</param>
    /// <param name="queue">The queue.</param>
    /// <param name="worker">Who receives.</param>
    /// <param name="clock">The time.</param>
    /// <param name="logger">Is told of what fails in the background.</param>
    public LinkWithCompanion(IReceivingLink link, IDepths? depths, IBroker companion, string queue, string worker,
        TimeProvider clock, ILogger? logger)
    {
        (this.link, this.depths, this.queue, this.worker, this.clock) = (link, depths, queue, worker, clock);
        this.companion = companion.TakeOver
            ?? throw new ArgumentException($"{companion.DisplayName} takes nothing over", nameof(companion));
        taking = NewLoop($"Taking over events of queue '{queue}' into {companion.DisplayName}", logger)
            .RunAsync(TakeOverInDoubtAsync, ending.Token);
        counting = NewLoop($"Counting in {companion.DisplayName} what came to queue '{queue}'", logger)
            .RunAsync(CountAsync, ending.Token);
    }

    public TimeSpan? RenewEvery => link.RenewEvery;

    public TimeSpan? RoundTrip => link.RoundTrip;

    public async Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken)
    {
        while (true)
        {
            if (lost is not null) throw lost;
            await inDoubt.Writer.WaitToWriteAsync(cancellationToken).ConfigureAwait(false);
            var deliveries = await link.ReceiveAsync(credit, cancellationToken).ConfigureAwait(false);
            if (await WithoutDoubtAsync(deliveries).ConfigureAwait(false) is { Count: > 0 } first) return first;
        }
    }

    public async Task<Exchange> SettleAsync(
        IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken)
    {
        var letters = await TakeOverAsync(settlements, cancellationToken).ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.TakenOverNotAccepted);
        var exchange = await link.SettleAsync(
            [.. settlements.Select(s => IsTakenOver(s) ? s with { Outcome = Outcome.Accepted } : s)], credit,
            cancellationToken).ConfigureAwait(false);
        Interlocked.Add(ref accepted, settlements.Count(static s => s.Outcome is Outcome.AcceptedOutcome));
        var deliveries = await WithoutDoubtAsync(exchange.Deliveries).ConfigureAwait(false);
        return exchange with { Deliveries = deliveries, DeadLetters = letters };
    }

    public Task ConfirmAsync(CancellationToken cancellationToken) => link.ConfirmAsync(cancellationToken);

    public void Withdraw() => link.Withdraw();

    public Task<IReadOnlyList<bool>> RenewAsync(
        IReadOnlyList<HandOver> deliveries, CancellationToken cancellationToken) =>
        link.RenewAsync(deliveries, cancellationToken);

    public async ValueTask DisposeAsync()
    {
        await ending.CancelAsync().ConfigureAwait(false);
        await taking.ConfigureAwait(false);
        await counting.ConfigureAwait(false);
        await TakeOverAtTheEndAsync().ConfigureAwait(false);
        await CountAtTheEndAsync().ConfigureAwait(false);
        await link.DisposeAsync().ConfigureAwait(false);
        ending.Dispose();
    }

    private Loop NewLoop(string name, ILogger? logger) =>
        new(name, FirstRest, LongestRest, clock, logger ?? NullLogger.Instance);

    private async Task CountAsync(CancellationToken cancellationToken)
    {
        await CountNowAsync(cancellationToken).ConfigureAwait(false);
        await Task.Delay(Count, clock, cancellationToken).ConfigureAwait(false);
    }

    private async Task CountNowAsync(CancellationToken cancellationToken)
    {
        var waiting = depths is null ? null
            : (await depths.ReadDepthsAsync([queue], cancellationToken).ConfigureAwait(false))[0];
        var counted = Interlocked.Exchange(ref accepted, 0);
        try
        {
            await companion.CountAsync(queue, counted, waiting, cancellationToken).ConfigureAwait(false);
        }
        catch
        {
            Interlocked.Add(ref accepted, counted);
            throw;
        }
    }

    /// <summary>
    /// Else it would be given back once more, and there are brokers that count how often. What is not taken over in
    /// time comes again, to whoever receives.
    /// </summary>
    private async Task TakeOverAtTheEndAsync()
    {
        try
        {
            using var limit = new CancellationTokenSource(LongestFarewell, clock);
            while (lost is null && (takingOver.Count > 0 || inDoubt.Reader.TryPeek(out _)))
                await TakeOverInDoubtAsync(limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is CourierException or OperationCanceledException)
        {
            // See above.
        }
    }

    private async Task CountAtTheEndAsync()
    {
        try
        {
            using var limit = new CancellationTokenSource(LongestFarewell, clock);
            await CountNowAsync(limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is CourierException or OperationCanceledException)
        {
            // What is not counted is handled all the same.
        }
    }

    private static bool IsTakenOver(Settlement settlement) =>
        settlement.Outcome is Outcome.Modified or Outcome.Rejected;

    /// <summary>What failed goes on at the companion.</summary>
    /// <returns>The dead letters among it; null where there is none.</returns>
    private async Task<Dictionary<HandOver, string>?> TakeOverAsync(
        IReadOnlyList<Settlement> settlements, CancellationToken cancellationToken)
    {
        if (!settlements.Any(IsTakenOver)) return null;
        var failed = settlements.Where(IsTakenOver).ToList();
        var taken = await companion.TakeOverAsync(
            queue, worker, failed.ConvertAll(Of), cancellationToken).ConfigureAwait(false);
        Dictionary<HandOver, string>? letters = null;
        for (var i = 0; i < failed.Count; i++)
            if (failed[i].Outcome is Outcome.Rejected && taken[i] is { } letter)
                (letters ??= [])[failed[i].Delivery] = letter;
        return letters;
    }

    private static TakenOver Of(Settlement failed)
    {
        var attempt = failed.Delivery.Attempt ?? 1;
        return new TakenOver(
            failed.Delivery.Json, failed.Outcome is Outcome.Modified { Counts: false } ? attempt - 1 : attempt,
            failed.Delivery.TriedFor ?? TimeSpan.Zero, failed.Outcome)
        {
            Uncounted = (failed.Delivery.Uncounted ?? 0) + ((failed.Outcome as Outcome.Modified)?.Uncounted ?? 0),
        };
    }

    /// <summary>What is handed over for the first time; the rest is taken over beside it.</summary>
    private async Task<IReadOnlyList<HandOver>> WithoutDoubtAsync(IReadOnlyList<HandOver> deliveries)
    {
        if (deliveries.All(d => d.Attempt is not null)) return deliveries;
        foreach (var delivery in deliveries.Where(d => d.Attempt is null))
            await inDoubt.Writer.WriteAsync(delivery, ending.Token).ConfigureAwait(false);
        return [.. deliveries.Where(d => d.Attempt is not null)];
    }

    private async Task TakeOverInDoubtAsync(CancellationToken cancellationToken)
    {
        if (takingOver.Count == 0) await inDoubt.Reader.WaitToReadAsync(cancellationToken).ConfigureAwait(false);
        for (var bytes = 0; takingOver.Count < MostInDoubt && bytes < Budget.Bytes
            && inDoubt.Reader.TryRead(out var delivery); bytes += delivery.Json.Length) takingOver.Add(delivery);
        await companion.TakeOverAsync(
            queue, worker, takingOver.ConvertAll(d => new TakenOver(d.Json, 0, null, null)), cancellationToken)
            .ConfigureAwait(false);
        FaultPoint.Pass(FaultPoint.TakenOverNotAccepted);
        try
        {
            await AcceptAsync([.. takingOver], cancellationToken).ConfigureAwait(false);
        }
        catch (LinkLostException e)
        {
            lost = e;
            takingOver.Clear();
        }
    }

    /// <summary>What cannot be settled must not keep the others.</summary>
    private async Task AcceptAsync(IReadOnlyList<HandOver> taken, CancellationToken cancellationToken)
    {
        try
        {
            await link.SettleAsync([.. taken.Select(d => new Settlement(d, Outcome.Accepted))], 0, cancellationToken)
                .ConfigureAwait(false);
            takingOver.RemoveAll(taken.Contains);
        }
        catch (CourierException e) when (taken.Count > 1 && e is not LinkLostException)
        {
            CourierException? problem = null;
            foreach (var one in taken)
            {
                try
                {
                    await AcceptAsync([one], cancellationToken).ConfigureAwait(false);
                }
                catch (CourierException alone) when (alone is not LinkLostException)
                {
                    problem = alone;
                }
            }
            if (problem is not null) throw problem;
        }
    }
}
