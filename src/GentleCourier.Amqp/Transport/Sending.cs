using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Transport;

/// <summary>Messages that are sent together, and what becomes of each. Guarded by the connection's lock.</summary>
internal abstract class Sending(int count)
{
    private readonly TaskCompletionSource done = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private int left = count;

    /// <summary>What the peer did with each; null where that is not known.</summary>
    public DeliveryState?[] Outcomes { get; } = new DeliveryState?[count];

    /// <summary>The first that has not been sent.</summary>
    public int Next { get; set; }

    public bool HasMore => Next < Outcomes.Length && !IsAbandoned;

    /// <summary>Nobody waits for it any more: what has not been sent is not.</summary>
    public bool IsAbandoned { get; set; }

    /// <summary>Why not all is known; null where it is.</summary>
    public AmqpException? WhyNot { get; private set; }

    /// <summary>Ends once every outcome is known, or none is learned any more; it never fails.</summary>
    public Task Done => done.Task;

    public abstract void Write(int index, WireBuffer to);

    public void Set(int index, DeliveryState outcome)
    {
        if (Outcomes[index] is not null) return;
        Outcomes[index] = outcome;
        if (--left == 0) done.TrySetResult();
    }

    public void Lose(AmqpException why)
    {
        (IsAbandoned, WhyNot) = (true, WhyNot ?? why);
        done.TrySetResult();
    }
}

/// <summary>The same of things that are written as messages only when it is their turn.</summary>
internal sealed class Sending<T>(IReadOnlyList<T> items, Action<T, WireBuffer> write) : Sending(items.Count)
{
    public override void Write(int index, WireBuffer to) => write(items[index], to);
}

/// <summary>What came of sending.</summary>
/// <param name="Outcomes">What the peer did with each; null where that is not known: it may have it or not.</param>
/// <param name="WhyNot">Why not all is known; null where it is.</param>
/// <param name="Count">How many have been sent at all, if only in part.</param>
internal readonly record struct Sent(IReadOnlyList<DeliveryState?> Outcomes, AmqpException? WhyNot, int Count = 0);
