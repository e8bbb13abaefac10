using GentleCourier.ByHand;
using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Has the workers of this process do what is ordered by hand: hold what they have not begun, receive otherwise than
/// their settings say, or take no more. It hears of it by announcement; since these can be lost it looks besides, by
/// one statement for all queues: often while something could begin, now and then while nothing can. A broker that
/// hands over by itself refuses what is paused whatever is known here.
/// </summary>
/// <param name="id">What this process is known by.</param>
/// <param name="orders">What is ordered.</param>
/// <param name="workers">Those of this process, a queue each.</param>
/// <param name="mostHandlers">How many handlers may run at once in this process; null: as many as it likes.</param>
/// <param name="clock">The time.</param>
/// <param name="logger">Is told of what is obeyed.</param>
internal sealed partial class Obedience(
    string id, IInstructions orders, IReadOnlyList<QueueWorker> workers, int? mostHandlers, TimeProvider clock,
    ILogger logger)
{
    private static readonly TimeSpan Often = TimeSpan.FromSeconds(2), Seldom = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan FirstRest = TimeSpan.FromMilliseconds(200);

    private readonly Signal news = new();
    private readonly TaskCompletionSource knows = new(TaskCreationOptions.RunContinuationsAsynchronously);
    // How each worker receives other than its settings say, why it does not, and what was said of that.
    private readonly Dictionary<QueueWorker, (Steering? Steering, string? Problem, string? Doing)> obeyed = [];
    private Standing standing = Standing.Nothing;
    private long readAt, heard = -1;
    private long? askedAt;
    private bool wasIdle;

    /// <summary>The number of the latest order that is obeyed; null before it is known whether there are any.</summary>
    public long? Heard => Volatile.Read(ref heard) is >= 0 and var number ? number : null;

    /// <summary>Whether this process takes no more.</summary>
    public bool IsDrained { get; private set; }

    /// <summary>Ends when there is something that others should know soon.</summary>
    public Task News => news.Next;

    /// <summary>Ends once it is known what stands; an error of the broker's is waited out.</summary>
    public Task Knows => knows.Task;

    /// <summary>Obeys until it is told to end.</summary>
    public Task RunAsync(CancellationToken ending) =>
        new Loop("Looking for what is ordered by hand", FirstRest, Often, clock, logger).RunAsync(LookAsync, ending);

    private async Task LookAsync(CancellationToken ending)
    {
        var announced = orders.Announced;
        if (askedAt is not { } asked || workers.Any(static w => w.IsEager) || clock.GetElapsedTime(asked) >= Seldom)
            await AskAsync(ending).ConfigureAwait(false);
        var wait = Obey();
        await orders.WaitAsync(announced, wait, workers.Any(static w => w.IsHeld), ending).ConfigureAwait(false);
        // Whoever announces something has written it down before.
        if (announced.IsCompleted) askedAt = null;
    }

    private async Task AskAsync(CancellationToken ending)
    {
        var now = clock.GetTimestamp();
        var read = await orders.ReadAsync(standing.Number, ending).ConfigureAwait(false);
        askedAt = now;
        if (read is null) return;
        (standing, readAt) = (read, now);
        Obey();
        // Said once it is so.
        var isFirst = Heard is null;
        Volatile.Write(ref heard, read.Number);
        knows.TrySetResult();
        // At the start others are told anyway.
        if (!isFirst) news.Raise();
    }

    /// <returns>When to look next: what ends by itself is not announced.</returns>
    private TimeSpan Obey()
    {
        var passed = clock.GetElapsedTime(readAt);
        var now = standing.After(passed);
        IsDrained = now.IsDrained(id);
        var handlers = workers.Sum(static w => w.Settings.Parallel);
        foreach (var worker in workers)
        {
            var pause = now.Pauses.GetValueOrDefault(worker.Queue);
            worker.Hold(IsDrained || pause is not null);
            var (steering, before) = (now.SteeringOf(worker.Queue, id), obeyed.GetValueOrDefault(worker));
            var (options, problem) = Options(worker.Settings, steering, ref handlers);
            if ((steering, problem) != (before.Steering, before.Problem)) worker.Steer(options, problem);
            var doing = Doing(pause, steering, problem, now);
            if (doing != before.Doing) LogObeys(logger, worker.Queue, doing ?? "receives as its settings say");
            obeyed[worker] = (steering, problem, doing);
        }
        var isIdle = IsDrained && workers.All(static w => w.InHand == 0);
        if (isIdle && !wasIdle) news.Raise();
        wasIdle = isIdle;
        return now.FirstEnd - passed is { } end && end < Often ? end : Often;
    }

    /// <summary>As it is said by hand, where it can; handlers that would wait for connections help nobody.</summary>
    private (ReceiverOptions Options, string? Problem) Options(
        ReceiverOptions settings, Steering? steering, ref int handlers)
    {
        if (steering is null) return (settings, null);
        var options = settings.With(steering);
        var more = options.Parallel - settings.Parallel;
        var problem = options.Problems().FirstOrDefault()
            ?? (more > 0 && handlers + more > mostHandlers
                ? $"all handlers of the process would be {handlers + more}, and its store has connections for "
                    + $"{mostHandlers} (its address may say more)" : null);
        if (problem is not null) return (settings, problem);
        handlers += more;
        return (options, null);
    }

    private string? Doing(Pause? pause, Steering? steering, string? problem, Standing now)
    {
        var drain = now.Instructions.FirstOrDefault(i => i.Worker == id && i.Steering is null);
        return drain is not null ? $"takes no more: drained by {Who(drain.By, drain.Why)}"
            : pause is not null ? $"begins nothing: paused by {Who(pause.By, pause.Why)}"
            : steering is null ? null
            : problem is null ? $"receives with {steering}" : $"does not receive with {steering}: {problem}";

        static string Who(string by, string? why) => why is null ? by : $"{by} ({why})";
    }

    [LoggerMessage(228, LogLevel.Information, "Queue {Queue}: by hand, this worker {Doing}")]
    private static partial void LogObeys(ILogger logger, string queue, string doing);
}
