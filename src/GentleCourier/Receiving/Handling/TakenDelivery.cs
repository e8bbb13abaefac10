using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// A delivery that a worker holds: from its hand-over until its outcome is decided, once, or it belongs to another.
/// </summary>
/// <param name="handOver">The delivery.</param>
/// <param name="attempt">Which attempt it is, as far as anybody knows.</param>
/// <param name="firstTried">When it was handed over for the first time, as far as anybody knows; a timestamp.</param>
/// <param name="began">Since when there has been such an event, as far as anybody knows; a timestamp.</param>
/// <param name="link">By whom it came, and who is told of its outcome.</param>
internal sealed class TakenDelivery(HandOver handOver, int attempt, long firstTried, long began, ISettler link)
{
    // Stands for an outcome of which nobody is told.
    private static readonly object Nothing = new();

    private readonly Lazy<CourierEvent> read = new(() => handOver.Problem is { } problem
        ? throw new UnreadableEventException(problem) : CourierEvent.Read(handOver.Json));
    private object? decision;
    private TaskCompletionSource<Outcome?>? watched;
    private volatile bool lost;
    private volatile Attempt? running;

    public HandOver HandOver { get; } = handOver;

    public int Attempt { get; } = attempt;

    public long FirstTried { get; } = firstTried;

    public long Began { get; } = began;

    public ISettler Link { get; } = link;

    /// <summary>The event, read when it is first asked for.</summary>
    /// <exception cref="UnreadableEventException">It cannot be read.</exception>
    public CourierEvent Event => read.Value;

    /// <summary>What was found in the inbox when it came, where that was looked for.</summary>
    public Look? Look { get; set; }

    /// <summary>It was settled before its handler began: there is nothing left to tell the broker.</summary>
    public bool IsSettled { get; set; }

    /// <summary>It belongs to another by now: nothing that is done with it here may have an effect.</summary>
    public bool IsLost => lost;

    /// <summary>Its attempt has failed, and its outcome waits for what becomes of others.</summary>
    public bool IsInDoubt { get; set; }

    /// <summary>Its outcome has been decided.</summary>
    public bool IsDecided => Volatile.Read(ref decision) is not null;

    /// <summary>The outcome; only the first that is told counts.</summary>
    public void Settle(Outcome outcome)
    {
        if (TryDecide(outcome)) Link.Settle(this, outcome);
    }

    /// <summary>It is let go: it belongs to another by now.</summary>
    public void Drop()
    {
        if (TryDecide(null)) Link.Drop(this);
    }

    /// <summary>The first to decide its outcome gets true; null: there is none to tell of.</summary>
    public bool TryDecide(Outcome? outcome)
    {
        if (Interlocked.CompareExchange(ref decision, outcome ?? Nothing, null) is not null) return false;
        Volatile.Read(ref watched)?.TrySetResult(outcome);
        return true;
    }

    /// <summary>Ends with the outcome once that is decided; with null where there is none to tell of.</summary>
    public Task<Outcome?> WhenDecided()
    {
        var source = new TaskCompletionSource<Outcome?>(TaskCreationOptions.RunContinuationsAsynchronously);
        source = Interlocked.CompareExchange(ref watched, source, null) ?? source;
        if (Volatile.Read(ref decision) is { } decided) source.TrySetResult(decided as Outcome);
        return source.Task;
    }

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
