using System.Diagnostics;
using System.Numerics;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;

namespace GentleCourier;

/// <summary>
/// Whether a server can be reached, as one of a process finds out for all that need it: they rest until it can, and
/// only this says so. One that comes and goes is told of more and more rarely, until it has been there for a while.
/// By the machine's own clock. Thread-safe.
/// </summary>
/// <param name="place">The server, for people.</param>
/// <param name="logger">Is told; null: somebody else tells.</param>
internal sealed partial class Reachability(string place, ILogger? logger = null)
{
    /// <summary>How often to ask for one that cannot be reached: half of it to all of it lies between two.</summary>
    public static readonly TimeSpan AskEvery = TimeSpan.FromSeconds(2);

    // So long without being lost, and it is told of from the first on again.
    private static readonly TimeSpan Calm = TimeSpan.FromMinutes(5);

    private readonly ILogger logger = new SafeLogger(logger ?? NullLogger.Instance);
    private readonly Lock gate = new();
    private TaskCompletionSource? back;
    private long lostAt, foundAt;
    private int times, tries;

    /// <summary>Ends when it can be reached again; has ended where it can.</summary>
    public Task Back
    {
        get
        {
            lock (gate) return back?.Task ?? Task.CompletedTask;
        }
    }

    private bool IsToTell => BitOperations.IsPow2(times);

    /// <summary>It cannot be reached, or a way to it has broken.</summary>
    /// <param name="why">What came back, for people.</param>
    /// <returns>Whether that is news: somebody has to ask from now on whether it can.</returns>
    public bool Lost(string why)
    {
        lock (gate)
        {
            if (back is not null) return false;
            back = new(TaskCreationOptions.RunContinuationsAsynchronously);
            if (times > 0 && Stopwatch.GetElapsedTime(foundAt) >= Calm) times = 0;
            (lostAt, tries) = (Stopwatch.GetTimestamp(), 0);
            times++;
            if (IsToTell) LogLost(logger, place, why, times);
            return true;
        }
    }

    /// <summary>It has been asked, in vain.</summary>
    public void StillAway(string why)
    {
        lock (gate)
            if (BitOperations.IsPow2(++tries) && tries > 1 && IsToTell)
                LogStillAway(logger, place, Stopwatch.GetElapsedTime(lostAt), tries, why);
    }

    /// <summary>It can be reached.</summary>
    public void Found()
    {
        lock (gate)
        {
            if (back is null) return;
            if (IsToTell) LogFound(logger, place, Stopwatch.GetElapsedTime(lostAt));
            foundAt = Stopwatch.GetTimestamp();
            back.TrySetResult();
            back = null;
        }
    }

    /// <summary>The one that a failure is about; null where it is about something else.</summary>
    public static Reachability? Of(Exception? problem)
    {
        for (; problem is not null; problem = problem.InnerException)
            if (problem is CourierException { Reachability: { } of }) return of;
        return null;
    }

    [LoggerMessage(130, LogLevel.Warning,
        "{Place} cannot be reached: {Problem}. What needs it here waits, and goes on when it can (outage {Times} of "
        + "late)")]
    private static partial void LogLost(ILogger logger, string place, string problem, int times);

    [LoggerMessage(131, LogLevel.Warning, "{Place} has not been reached for {Time}, in {Tries} tries: {Problem}")]
    private static partial void LogStillAway(ILogger logger, string place, TimeSpan time, int tries, string problem);

    [LoggerMessage(132, LogLevel.Information, "{Place} is reached again, after {Time}")]
    private static partial void LogFound(ILogger logger, string place, TimeSpan time);
}
