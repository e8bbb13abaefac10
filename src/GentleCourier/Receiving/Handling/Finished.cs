using System.Diagnostics;
using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// What handlers have finished, until the loop of the link tells the broker. It gathers until so many are worth an
/// exchange, but for a few milliseconds after the last one only: by the machine's own clock, since it decides nothing
/// but what goes together.
/// </summary>
/// <param name="worth">How many are worth an exchange at this moment.</param>
internal sealed class Finished(Func<int> worth) : IDisposable
{
    private static readonly TimeSpan Longest = TimeSpan.FromMilliseconds(5);

    private readonly Lock gate = new();
    private readonly List<Settlement> gathered = [];
    private TaskCompletionSource? waiting;
    private Timer? timer;
    private long lastTaken;

    /// <summary>Whether it is time to tell the broker.</summary>
    public bool IsDue
    {
        get
        {
            lock (gate) return IsDueNow;
        }
    }

    /// <summary>Ends when it is time to tell the broker.</summary>
    public Task Due
    {
        get
        {
            lock (gate)
            {
                if (IsDueNow) return Task.CompletedTask;
                waiting ??= new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
                if (gathered.Count > 0) LookAgain();
                return waiting.Task;
            }
        }
    }

    private TimeSpan Left => Longest - Stopwatch.GetElapsedTime(lastTaken);

    private bool IsDueNow => gathered.Count > 0 && (gathered.Count >= worth() || Left <= TimeSpan.Zero);

    /// <summary>A handler has finished it.</summary>
    public void Add(Settlement settlement)
    {
        lock (gate)
        {
            gathered.Add(settlement);
            if (waiting is null) return;
            if (IsDueNow) Call();
            else if (gathered.Count == 1) LookAgain();
        }
    }

    /// <summary>Moves all to the end of the batch.</summary>
    public void TakeInto(List<Settlement> batch)
    {
        lock (gate)
        {
            batch.AddRange(gathered);
            gathered.Clear();
            lastTaken = Stopwatch.GetTimestamp();
        }
    }

    public void Dispose()
    {
        lock (gate)
        {
            // Nobody waits for what comes late.
            waiting = null;
            timer?.Dispose();
        }
    }

    private void LookAgain()
    {
        timer ??= new Timer(static self => ((Finished)self!).TimeIsOver(), this, Timeout.Infinite, Timeout.Infinite);
        // Timers count whole milliseconds, and cut off the rest.
        timer.Change((int)Math.Max(1, Math.Ceiling(Left.TotalMilliseconds)), Timeout.Infinite);
    }

    private void TimeIsOver()
    {
        lock (gate)
        {
            if (waiting is null || gathered.Count == 0) return;
            if (IsDueNow) Call();
            else LookAgain();
        }
    }

    private void Call()
    {
        waiting?.TrySetResult();
        waiting = null;
    }
}
