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
/// <param name="logger">Is told of failures; one that fails itself does no harm.</param>
internal sealed partial class Loop(
    string name, TimeSpan firstRest, TimeSpan longestRest, TimeProvider clock, ILogger? logger = null)
{
    private readonly ILogger logger = logger ?? NullLogger.Instance;
    private int failures;

    /// <summary>How many steps have failed in a row.</summary>
    public int Failures => Volatile.Read(ref failures);

    /// <summary>Why the last step failed; null once one has not.</summary>
    public string? LastError { get; private set; }

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
                Succeeded();
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

    /// <summary>It works: to be called by a step that goes on for long.</summary>
    public void Succeeded()
    {
        if (Interlocked.Exchange(ref failures, 0) is not (> 0 and var before)) return;
        LastError = null;
        Quietly(() => LogRecovered(logger, name, before));
    }

    private async Task RestAsync(Exception problem, CancellationToken ending)
    {
        LastError = Words.Of(problem);
        var delay = BackOff.Delay(
            Interlocked.Increment(ref failures), firstRest, longestRest, Random.Shared.NextDouble());
        Quietly(() => LogFailed(logger, name, LastError, Failures, delay));
        try
        {
            if (Failed is not null) await Failed(problem, ending).ConfigureAwait(false);
        }
        catch (Exception e) when (!ending.IsCancellationRequested)
        {
            Quietly(() => LogFailed(logger, name, Words.Of(e), Failures, delay));
        }
        catch (Exception)
        {
            // It is told to end: what fails at that moment is nobody's concern any more.
            return;
        }
        await Task.Delay(delay, clock, ending).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    /// <summary>A logger that fails must not end what it is told of.</summary>
    private static void Quietly(Action log)
    {
        try
        {
            log();
        }
        catch (Exception)
        {
            // There is nobody left to tell.
        }
    }

    [LoggerMessage(
        103, LogLevel.Warning, "{Name} failed: {Problem} (failure {Failures} in a row; next try in {Delay})")]
    private static partial void LogFailed(ILogger logger, string name, string problem, int failures, TimeSpan delay);

    [LoggerMessage(104, LogLevel.Information, "{Name} works again after {Failures} failures")]
    private static partial void LogRecovered(ILogger logger, string name, int failures);
}

/// <summary>What an exception says; one whose own text is broken says its name.</summary>
internal static class Words
{
    public static string Of(Exception e)
    {
        try
        {
            return e.Message;
        }
        catch (Exception)
        {
            return e.GetType().FullName ?? e.GetType().Name;
        }
    }
}
