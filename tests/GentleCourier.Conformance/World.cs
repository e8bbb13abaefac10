using System.Collections.Concurrent;

namespace GentleCourier.Conformance;

[WireType("test.tap")]
public sealed record Tap(int Number, string Pier = "Longsand");

[WireType("test.charged")]
public sealed record Charged(int Number);

/// <summary>What receivers of one test did, and what they are told to do.</summary>
public sealed class Log
{
    public ConcurrentQueue<Delivery<Tap>> Taps { get; } = [];

    public Func<Delivery<Tap>, CancellationToken, Task> OnTap { get; init; } = (_, _) => Task.CompletedTask;
}

public sealed class TapReceiver(Log log) : IReceiver<Tap>
{
    public async Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
    {
        log.Taps.Enqueue(delivery);
        await log.OnTap(delivery, cancellationToken);
    }
}
