using System.Diagnostics;

namespace GentleCourier.Postgres;

/// <summary>
/// When the row of a link is written. While there is little to do at once; otherwise twice a second, since each version
/// of it stays for as long as a snapshot is held anywhere in the database, and whoever looks for the row goes through
/// all of them. It need not be exact, but for this: what a link has in hand must be found should it die, so that
/// nothing is in hand while the row says that nothing is. By the machine's own clock. Thread-safe.
/// </summary>
/// <param name="write">Writes what is so, by itself; it throws nothing.</param>
internal sealed class LinkRow(Func<Task> write) : IAsyncDisposable
{
    /// <summary>Leases may begin so much later than the row says, in SQL.</summary>
    public const string Slack = "interval '1 second'";

    // So many at once, and then one in this time.
    private const int AtOnce = 100;
    private static readonly TimeSpan Every = TimeSpan.FromMilliseconds(500);

    private readonly Lock gate = new();
    private readonly long began = Stopwatch.GetTimestamp();
    // How many there could have been by now, less how many there were.
    private double spent;
    private (int InHand, long Passed) said;
    private bool isOver;
    private Timer? timer;
    private Task writing = Task.CompletedTask;

    /// <summary>How a statement is to write it.</summary>
    public enum Way
    {
        /// <summary>Not at all.</summary>
        Not = 0,

        /// <summary>If something is taken.</summary>
        IfTaken = 1,

        /// <summary>In any case.</summary>
        Write = 2,
    }

    /// <summary>How the next exchange is to write it.</summary>
    /// <param name="hasSettled">Whether it settles something, so that the row may be other than before.</param>
    public Way Next(bool hasSettled)
    {
        lock (gate)
        {
            if (TryTake()) return hasSettled ? Way.Write : Way.IfTaken;
            return said.InHand == 0 ? Way.IfTaken : Way.Not;
        }
    }

    /// <summary>The exchange has succeeded, and this is so.</summary>
    public void Is(Way way, int taken, int inHand, long passed)
    {
        lock (gate)
        {
            if (way == Way.Write || (way == Way.IfTaken && taken > 0)) said = (inHand, passed);
            else if (said != (inHand, passed) && !isOver) WriteSoon();
        }
    }

    public async ValueTask DisposeAsync()
    {
        Task last;
        lock (gate)
        {
            isOver = true;
            timer?.Dispose();
            last = writing;
        }
        await last.ConfigureAwait(false);
    }

    private bool TryTake()
    {
        var possible = Stopwatch.GetElapsedTime(began) / Every;
        spent = Math.Max(spent, possible - AtOnce);
        if (spent + 1 > possible + AtOnce) return false;
        spent++;
        return true;
    }

    private void WriteSoon()
    {
        if (timer is not null) return;
        timer = new Timer(static self => ((LinkRow)self!).Write(), this, Every, Timeout.InfiniteTimeSpan);
    }

    private void Write()
    {
        lock (gate)
        {
            timer?.Dispose();
            timer = null;
            // One that takes its time is enough; and where it fails, the next exchange says so, or the leases' end.
            if (!isOver && writing.IsCompleted) writing = Task.Run(write);
        }
    }
}
