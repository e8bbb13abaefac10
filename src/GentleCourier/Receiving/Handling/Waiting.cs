using System.Collections.Concurrent;
using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Holds failed deliveries of a broker that has no delays of its own: unsettled, until the next attempt is due.
/// Thread-safe.
/// </summary>
/// <param name="abilities">What the broker can do.</param>
/// <param name="held">Called with what stands for a delivery that waits, before that can fall due.</param>
/// <param name="due">Called with a delivery when its next attempt is due.</param>
/// <param name="clock">The time.</param>
/// <param name="over">Nothing falls due any more.</param>
internal sealed class Waiting(
    BrokerAbilities abilities, Action<TakenDelivery> held, Action<TakenDelivery> due, TimeProvider clock,
    CancellationToken over)
{
    /// <summary>
    /// So many may wait beside what the prefetch allows; beyond that, events come again without a delay.
    /// </summary>
    public const int Most = 1_000;

    private readonly ConcurrentDictionary<TakenDelivery, bool> waiting = new();
    private int count;

    /// <summary>Takes it, if it has to wait here.</summary>
    public bool TryHold(TakenDelivery delivery, Outcome outcome)
    {
        if (outcome is not Outcome.Modified { Delay: var delay, Counts: var counts } || delay <= TimeSpan.Zero)
            return false;
        if (abilities.HasFlag(BrokerAbilities.Delays) || over.IsCancellationRequested) return false;
        if (Interlocked.Increment(ref count) > Most)
        {
            Interlocked.Decrement(ref count);
            return false;
        }
        var next = new TakenDelivery(
            delivery.HandOver, delivery.Attempt + (counts ? 1 : 0), delivery.FirstTried, delivery.Began,
            delivery.Link);
        held(next);
        waiting[next] = true;
        _ = HoldAsync(next, delay);
        return true;
    }

    /// <summary>Takes back all that wait.</summary>
    public List<TakenDelivery> TakeBack() => waiting.Keys.ToList().FindAll(TryRemove);

    private async Task HoldAsync(TakenDelivery delivery, TimeSpan delay)
    {
        await Task.Delay(delay, clock, over).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        if (!over.IsCancellationRequested && TryRemove(delivery)) due(delivery);
    }

    private bool TryRemove(TakenDelivery delivery)
    {
        if (!waiting.TryRemove(delivery, out _)) return false;
        Interlocked.Decrement(ref count);
        return true;
    }
}
