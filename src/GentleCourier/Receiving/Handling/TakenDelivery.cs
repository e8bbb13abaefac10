using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// A delivery that a worker holds: from its hand-over until its outcome is decided, once, or it belongs to another.
/// What becomes of it is for its <see cref="Hand"/> to say, which alone changes its state.
/// </summary>
/// <param name="handOver">The delivery.</param>
/// <param name="attempts">What is known of the attempts at it.</param>
/// <param name="link">By which link it came.</param>
/// <param name="owner">Who is told of its outcome.</param>
internal sealed class TakenDelivery(HandOver handOver, Attempts attempts, LinkAccount link, Deliveries owner)
{
    private readonly Lazy<CourierEvent> read = new(() => handOver.Problem is { } problem
        ? throw new UnreadableEventException(problem) : CourierEvent.Read(handOver.Json));
    private volatile DeliveryState state;
    private volatile bool lost, settled;
    private volatile Attempt? running;

    public HandOver HandOver { get; } = handOver;

    public Attempts Attempts { get; } = attempts;

    public LinkAccount Link { get; } = link;

    public DeliveryState State
    {
        get => state;
        set => state = value;
    }

    /// <summary>What has been decided; null where there is nothing to tell of.</summary>
    public Outcome? Outcome { get; set; }

    /// <summary>What is to come of it, while it is in doubt.</summary>
    public Doubt? Doubt { get; set; }

    /// <summary>Since when it is, as its owner counts the time.</summary>
    public TimeSpan Since { get; set; }

    /// <summary>What it follows.</summary>
    public TakenDelivery? First { get; set; }

    /// <summary>Null where it cannot be read.</summary>
    public EventKey? Key => TryRead()?.Key;

    /// <summary>The event, read when it is first asked for.</summary>
    /// <exception cref="UnreadableEventException">It cannot be read.</exception>
    public CourierEvent Event => read.Value;

    /// <summary>Where it was looked for in the inbox, and at which place; null where it was not.</summary>
    public (Look Look, int Place)? Look { get; set; }

    /// <summary>It was settled before its handler began: there is nothing left to tell the broker.</summary>
    public bool IsSettled
    {
        get => settled;
        set => settled = value;
    }

    /// <summary>It belongs to another by now: nothing that is done with it here may have an effect.</summary>
    public bool IsLost => lost;

    /// <summary>Its attempt has failed, and its outcome waits for what becomes of others.</summary>
    public bool IsInDoubt => state == DeliveryState.InDoubt;

    /// <summary>Its outcome has been decided.</summary>
    public bool IsDecided => state >= DeliveryState.Decided;

    /// <summary>The outcome; only the first that is told counts.</summary>
    public void Settle(Outcome outcome) => owner.Decide(this, outcome);

    /// <summary>It is let go: it belongs to another by now.</summary>
    public void Drop() => owner.Decide(this, null);

    /// <summary>What stands for it until its next attempt, after this outcome.</summary>
    public TakenDelivery Again(Outcome.Modified outcome) => new(HandOver, Attempts.After(outcome), Link, owner);

    /// <summary>Null where the event cannot be read; whoever asks for it will be told.</summary>
    public ReadDelivery? TryRead()
    {
        try
        {
            return new ReadDelivery(this, Event);
        }
        catch (Exception)
        {
            return null;
        }
    }

    /// <summary>What may be cut short when it is lost.</summary>
    public void BeginAttempt(Attempt begun)
    {
        running = begun;
        if (lost) begun.CutShort(Cut.LeaseLost);
    }

    public void Lose()
    {
        lost = true;
        running?.CutShort(Cut.LeaseLost);
    }
}
