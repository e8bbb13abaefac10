using GentleCourier.Engines;

namespace GentleCourier.Receiving;

/// <summary>A delivery that a worker holds: from its hand-over until its outcome is decided, once, or its lease is lost.</summary>
internal sealed class Held(HandOver handOver)
{
    private int decided;
    private volatile bool lost;
    private volatile Attempt? attempt;

    public HandOver HandOver { get; } = handOver;

    /// <summary>It was settled before its handler began: there is nothing left to tell the broker.</summary>
    public bool IsSettled { get; set; }

    /// <summary>It belongs to another by now: nothing that is done with it here may have an effect.</summary>
    public bool IsLost => lost;

    /// <summary>Its outcome has been decided.</summary>
    public bool IsDecided => Volatile.Read(ref decided) != 0;

    /// <summary>The first to decide its outcome gets true.</summary>
    public bool TryDecide() => Interlocked.Exchange(ref decided, 1) == 0;

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
