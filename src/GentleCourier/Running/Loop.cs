using System.Numerics;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;

namespace GentleCourier;

/// <summary>
/// The library's one way to run for ever: it runs a step again and again; what a step throws is logged, rested from and
/// tried again, and never ends the loop. It ends when it is told to, and can be asked how it does.
/// </summary>
/// <param name="name">What it does, for people.</param>
/// <param name="firstRest">Bound of the rest after a first failure; it doubles with each further one.</param>
/// <param name="longestRest">Its cap.</param>
/// <param name="clock">Measures the rests.</param>
/// <param name="logger">
/// Is told of failures: of the first, and of further ones more and more rarely, unless they are others. A logger that
/// fails itself does no harm. Of a server that cannot be reached its <see cref="Reachability"/> tells.
/// </param>
internal sealed partial class Loop(
    string name, TimeSpan firstRest, TimeSpan longestRest, TimeProvider clock, ILogger? logger = null)
{
    private readonly ILogger logger = new SafeLogger(logger ?? NullLogger.Instance);
    // So long a rest is at the least where it ends early.
    private static readonly TimeSpan Least = TimeSpan.FromMilliseconds(100);

    private int failures;
    private bool isSaid;

    /// <summary>How many steps have failed in a row.</summary>
    public int Failures => Volatile.Read(ref failures);

    /// <summary>Why the last step failed; null once one has not.</summary>
    public string? LastError { get; private set; }

    /// <summary>
    /// Whether only <see cref="Succeeded"/> says that it works: a step that has ended may just have waited for what
    /// fails.
    /// </summary>
    public bool SaysByItself { get; init; }

    /// <summary>What to do about a failure besides, within the rest: it may fail too.</summary>
    public Func<Exception, CancellationToken, Task>? Failed { get; init; }

    /// <summary>Runs the step for ever. It returns when it is told to end, and throws nothing.</summary>
    public async Task RunAsync(Func<CancellationToken, Task> step, CancellationToken ending)
    {
        // Whoever starts it goes on at once, even if a step never waits.
        await Task.Yield();
        while (!ending.IsCancellationRequested)
        {
            try
            {
                await step(ending).ConfigureAwait(false);
                if (!SaysByItself) Succeeded();
            }
            catch (OperationCanceledException) when (ending.IsCancellationRequested)
            {
                return;
            }
            catch (Exception e)
            {
                await RestAsync(e, ending).ConfigureAwait(false);
            }
        }
    }

    /// <summary>
    /// The same on the caller's thread, for what blocks it. It returns when <paramref name="hasEnded"/> says so.
    /// </summary>
    /// <param name="step">What to do, again and again.</param>
    /// <param name="hasEnded">Asked before each step.</param>
    /// <param name="rest">Blocks for a time, or until it ends.</param>
    public void Run(Action step, Func<bool> hasEnded, Action<TimeSpan> rest)
    {
        while (!hasEnded())
        {
            try
            {
                step();
                Succeeded();
            }
            catch (Exception) when (hasEnded())
            {
                return;
            }
            catch (Exception e)
            {
                rest(Note(e));
            }
        }
    }

    /// <summary>It works: to be called by a step that goes on for long.</summary>
    public void Succeeded()
    {
        if (Interlocked.Exchange(ref failures, 0) is not (> 0 and var before)) return;
        LastError = null;
        if (isSaid) LogRecovered(logger, name, before);
        isSaid = false;
    }

    private async Task RestAsync(Exception problem, CancellationToken ending)
    {
        var delay = Note(problem);
        try
        {
            if (Failed is not null) await Failed(problem, ending).ConfigureAwait(false);
        }
        catch (Exception e) when (!ending.IsCancellationRequested)
        {
            if (Reachability.Of(e) is null) LogFailed(logger, name, Words.Of(e), Failures, delay);
        }
        catch (Exception)
        {
            // It is told to end: what fails at that moment is nobody's concern any more.
            return;
        }
        using var over = CancellationTokenSource.CreateLinkedTokenSource(ending);
        var rest = Task.Delay(delay, clock, over.Token);
        if (Reachability.Of(problem) is { } reachability)
        {
            // Whoever cannot be reached is asked for by one; when it can, nobody rests any longer, but not all begin at
            // the same moment, nor again and again at full speed.
            await Task.WhenAny(rest, reachability.Back).ConfigureAwait(false);
            var little = Task.Delay(BackOff.Jitter(Least, Random.Shared.NextDouble()), over.Token);
            await Task.WhenAny(rest, little).ConfigureAwait(false);
            await over.CancelAsync().ConfigureAwait(false);
        }
        await rest.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    /// <summary>How long to rest from it.</summary>
    private TimeSpan Note(Exception problem)
    {
        var (said, before) = (Words.Of(problem), LastError);
        LastError = said;
        var count = Interlocked.Increment(ref failures);
        var delay = BackOff.Delay(count, firstRest, longestRest, Random.Shared.NextDouble());
        if (Reachability.Of(problem) is null && (BitOperations.IsPow2(count) || said != before))
        {
            isSaid = true;
            LogFailed(logger, name, said, count, delay);
        }
        return delay;
    }

    [LoggerMessage(
        103, LogLevel.Warning, "{Name} failed: {Problem} (failure {Failures} in a row; next try in {Delay})")]
    private static partial void LogFailed(ILogger logger, string name, string problem, int failures, TimeSpan delay);

    [LoggerMessage(104, LogLevel.Information, "{Name} works again after {Failures} failures")]
    private static partial void LogRecovered(ILogger logger, string name, int failures);
}
