using System.Collections.Concurrent;
using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// What this process still handles though the link that it came by is gone. A peer that pushes gives such an event
/// again, maybe to this very process: then it waits for the handler that has it, and takes over its outcome. Without an
/// inbox it would act twice. Thread-safe.
/// </summary>
internal sealed class Unfinished
{
    private readonly ConcurrentDictionary<EventKey, TakenDelivery> handled = new();
    // Nearly always there is none, and every delivery asks.
    private volatile int count;

    /// <summary>The link of a delivery is gone.</summary>
    public void Add(TakenDelivery delivery)
    {
        // Nobody can find what cannot be read, nor need it be found once it is decided.
        if (delivery.TryRead() is not { Key: var key } || delivery.IsDecided) return;
        if (!handled.TryAdd(key, delivery)) return;
        Interlocked.Increment(ref count);
        _ = ForgetAsync(key);
    }

    /// <summary>The delivery of the same event that a handler still has; null where none has.</summary>
    public TakenDelivery? Find(TakenDelivery delivery) =>
        count > 0 && delivery.TryRead() is { Key: var key } ? handled.GetValueOrDefault(key) : null;

    private async Task ForgetAsync(EventKey key)
    {
        _ = await handled[key].WhenDecided().ConfigureAwait(false);
        if (handled.TryRemove(key, out _)) Interlocked.Decrement(ref count);
    }
}
