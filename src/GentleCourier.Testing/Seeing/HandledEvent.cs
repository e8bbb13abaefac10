using GentleCourier.Events;

namespace GentleCourier.Testing;

/// <summary>What came of one delivery: a hand-over of an event to a receiver. Immutable.</summary>
public sealed class HandledEvent
{
    private readonly ContractCodec codec;

    internal HandledEvent(string service, string queue, CourierEvent @event, ContractCodec codec)
    {
        this.codec = codec;
        (Service, Queue, Event) = (service, queue, @event);
    }

    /// <summary>Whose receiver it was, by the name that the test has given.</summary>
    public string Service { get; }

    /// <summary>The queue that the event came from.</summary>
    public string Queue { get; }

    /// <summary>The event.</summary>
    public CourierEvent Event { get; }

    /// <summary>The receiver's class; null where none was called.</summary>
    public Type? Receiver { get; internal init; }

    /// <summary>Which attempt it was, from 1 on.</summary>
    public int Attempt { get; internal init; }

    /// <summary>What became of it.</summary>
    public HandledAs Outcome { get; internal init; }

    /// <summary>After what time it comes again; null where it does not.</summary>
    public TimeSpan? Delay { get; internal init; }

    /// <summary>Whether the attempt counts towards <see cref="ReceiverOptions.MaxAttempts"/>.</summary>
    public bool Counts { get; internal init; } = true;

    /// <summary>Why it was not handled, in one line; null where it was.</summary>
    public string? Reason { get; internal init; }

    /// <summary>What the receiver threw; null where it did not.</summary>
    public Exception? Exception { get; internal init; }

    /// <summary>When, by the test's clock.</summary>
    public DateTimeOffset At { get; internal init; }

    /// <summary>Its data.</summary>
    /// <exception cref="ContractException">It is no <typeparamref name="TContract"/>.</exception>
    public TContract Data<TContract>() where TContract : notnull => SeenData.Of<TContract>(Event, codec, "handled");

    /// <summary>Whether its type is that of the contract, or a former one.</summary>
    public bool Is<TContract>() => SeenData.Is<TContract>(Event);

    /// <summary>In one line, for people.</summary>
    public override string ToString()
    {
        var what = $"{Receiver?.Name ?? Service} of queue '{Queue}', {Event.Type} {Event.Id}, attempt {Attempt}: ";
        return what + Outcome switch
        {
            HandledAs.Handled => "handled",
            HandledAs.HandledBefore => "a copy of what has been handled, absorbed",
            HandledAs.ComesAgain when Delay is { } delay => $"comes again in {TrialText.Of(delay)}: {Reason}",
            HandledAs.SetAside => $"set aside: {Reason}",
            _ => $"given back: {Reason}",
        };
    }
}

/// <summary>What became of a delivery.</summary>
public enum HandledAs
{
    /// <summary>Its receiver has handled it, and that is committed.</summary>
    Handled,

    /// <summary>The inbox knew it: it was absorbed, without effect.</summary>
    HandledBefore,

    /// <summary>It comes again, after <see cref="HandledEvent.Delay"/>.</summary>
    ComesAgain,

    /// <summary>It is a dead letter.</summary>
    SetAside,

    /// <summary>It was given back untried, or its worker has lost it.</summary>
    GivenBack,
}
