namespace GentleCourier.Receiving.Handling;

/// <summary>Why an attempt was cut short.</summary>
internal enum Cut
{
    None,
    TimeLimit,
    LeaseLost,
}

/// <summary>
/// One run of a receiver, over one delivery or a batch. Up to the moment at which its work is committed it can be cut
/// short, by its time limit or the loss of its lease: its token is cancelled, and whatever it still does has no effect.
/// </summary>
internal sealed class Attempt : IDisposable
{
    /// <summary>How long a handler has, once its token is cancelled, to end before it is reported.</summary>
    public static readonly TimeSpan TimeToEnd = TimeSpan.FromSeconds(1);

    private readonly Lock gate = new();
    private readonly CancellationTokenSource cancellation;
    private readonly Action overrun;
    private readonly ITimer? timer;
    private bool over, overran;

    /// <param name="limit">For how long it may run; null: as long as it likes.</param>
    /// <param name="overrun">Called if it still runs <see cref="TimeToEnd"/> after its limit.</param>
    /// <param name="clock">The time.</param>
    /// <param name="outOfTime">Cancels it too, without making what it does void: the host stops.</param>
    public Attempt(TimeSpan? limit, Action overrun, TimeProvider clock, CancellationToken outOfTime)
    {
        cancellation = CancellationTokenSource.CreateLinkedTokenSource(outOfTime);
        this.overrun = overrun;
        if (limit is { } time)
            timer = clock.CreateTimer(static self => ((Attempt)self!).LimitReached(), this, time, TimeToEnd);
    }

    public CancellationToken Token => cancellation.Token;

    /// <summary>Why it was cut short.</summary>
    public Cut Cut { get; private set; }


    /// <summary>
    /// The receiver is done. True: from here on nothing cuts it short, and its work may be committed.
    /// </summary>
    public bool TryFinish()
    {
        lock (gate)
        {
            over = true;
            return Cut == Cut.None;
        }
    }

    /// <summary>It has ended, however. True: it has been reported to run on long after its limit.</summary>
    public bool End()
    {
        lock (gate)
        {
            over = true;
            return overran;
        }
    }

    public void CutShort(Cut reason)
    {
        lock (gate)
        {
            if (over || Cut != Cut.None) return;
            Cut = reason;
            // Not here: what a handler has registered to be called may take its time, or throw.
            _ = cancellation.CancelAsync();
        }
    }

    public void Dispose()
    {
        lock (gate) over = true;
        timer?.Dispose();
        cancellation.Dispose();
    }

    private void LimitReached()
    {
        lock (gate)
        {
            if (over || overran) return;
            if (Cut == Cut.None)
            {
                CutShort(Cut.TimeLimit);
                return;
            }
            overran = true;
            overrun();
        }
    }
}
