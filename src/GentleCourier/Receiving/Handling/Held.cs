using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// A delivery that a worker holds: from its hand-over until its outcome is decided, once, or its lease is lost.
/// </summary>
internal sealed class Held(HandOver handOver)
{
    private readonly Lazy<Event> read = new(() => Event.Read(handOver.Json));
    private int decided;
    private volatile bool lost;
    private volatile Attempt? attempt;

    public HandOver HandOver { get; } = handOver;

    /// <summary>The event, read when it is first asked for.</summary>
    /// <exception cref="UnreadableEventException">It cannot be read.</exception>
    public Event Event => read.Value;

    /// <summary>What was found in the inbox when it came, where that was looked for.</summary>
    public Look? Look { get; set; }

    /// <summary>It was settled before its handler began: there is nothing left to tell the broker.</summary>
    public bool IsSettled { get; set; }

    /// <summary>It belongs to another by now: nothing that is done with it here may have an effect.</summary>
    public bool IsLost => lost;

    /// <summary>Its outcome has been decided.</summary>
    public bool IsDecided => Volatile.Read(ref decided) != 0;

    /// <summary>The first to decide its outcome gets true.</summary>
    public bool TryDecide() => Interlocked.Exchange(ref decided, 1) == 0;

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
        attempt = begun;
        if (lost) begun.CutShort(Cut.LeaseLost);
    }

    public void Lose()
    {
        lost = true;
        attempt?.CutShort(Cut.LeaseLost);
    }
}
