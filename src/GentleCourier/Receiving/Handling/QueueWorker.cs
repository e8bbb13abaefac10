using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Receives from one queue: its handlers, and one link after another that supplies them, or two where the broker has a
/// companion. They live apart: a link that is lost is opened again while handlers go on, and a handler that never ends
/// keeps no link from being opened.
/// </summary>
internal sealed partial class QueueWorker : IDisposable
{
    private static readonly TimeSpan FirstRest = TimeSpan.FromMilliseconds(200);
    private static readonly TimeSpan LongestRest = TimeSpan.FromSeconds(5);

    private readonly QueueBinding binding;
    private readonly WorkerParts parts;
    private readonly List<Source> sources;
    private readonly ILogger logger;
    private volatile ReceiverOptions steered;
    private volatile string? steeringProblem;

    public QueueWorker(QueueBinding binding, IBroker broker, IInboxPort? store, ContractCodec codec,
        IServiceScopeFactory scopes, TimeProvider clock, ILogger logger, IWitness? witness = null)
    {
        this.binding = binding;
        this.logger = logger;
        var options = steered = binding.Options;
        var counts = new AttemptCounts(clock);
        var deliveries = new Deliveries(options.Prefetch, options.Parallel, binding.BatchSize, counts, clock);
        var handler = new DeliveryHandler(binding, store, codec, scopes, deliveries, clock, logger, witness);
        var handlers = new Handlers(binding, handler, deliveries, clock, logger);
        parts = new WorkerParts(binding, handlers, handler, deliveries, counts, clock, logger, witness);
        IBroker[] brokers = broker.Companion is { } companion ? [broker, companion] : [broker];
        sources = [.. brokers.Select(source => new Source(source, new Loop(
            $"The link to queue '{binding.Queue}' of {source.DisplayName}", FirstRest, LongestRest, clock, logger)
            {
                SaysByItself = true,
            }))];
    }

    /// <summary>The queue.</summary>
    public string Queue => binding.Queue;

    /// <summary>How it receives as its settings say.</summary>
    public ReceiverOptions Settings => binding.Options;

    /// <summary>Whether nothing is begun, since somebody has said so by hand.</summary>
    public bool IsHeld => parts.Deliveries.IsHeld.IsCancellationRequested;

    /// <summary>How many deliveries it holds.</summary>
    public int InHand => parts.Deliveries.Now.Held;

    /// <summary>Whether it has to know soon what is ordered by hand: it could begin something.</summary>
    public bool IsEager => IsHeld || sources.Count > 1 || InHand > 0;

    /// <summary>Holds what has not begun, or begins again.</summary>
    public void Hold(bool isHeld) => parts.Deliveries.Hold(isHeld);

    /// <summary>Receives by other options from now on, as far as those of running workers can be others.</summary>
    /// <param name="options">These.</param>
    /// <param name="problem">Why they are not what somebody has said by hand; null where they are.</param>
    public void Steer(ReceiverOptions options, string? problem)
    {
        var before = steered;
        (steered, steeringProblem) = (options, problem);
        parts.Deliveries.Steer(options.Prefetch, options.Parallel);
        parts.Handlers.Run(options.Parallel, options.MaxPerSecond);
        if (options.BrakeAfter != before.BrakeAfter) parts.Handler.SteerBrakes(options.BrakeAfter);
    }

    /// <summary>How it does at this moment.</summary>
    public ReceiverFigures Figures
    {
        get
        {
            var options = steered;
            var (inHand, _, running) = parts.Deliveries.Now;
            var (handled, failed) = parts.Handler.Counts;
            var (brake, times) = (parts.Handler.Brake, parts.Handlers.Times);
            return new ReceiverFigures(
                binding.Queue, [.. binding.Handlers.Keys], options.Prefetch.ToString(), options.Parallel)
            {
                InHand = inHand,
                Running = running,
                Handled = handled,
                Failed = failed,
                Longest = times.Longest,
                HandlingTimes = times.Handling,
                WaitingTimes = times.Waiting,
                TimeLimit = options.TimeLimit,
                Brake = brake?.Why,
                BrakedFor = brake?.For,
                IsHeld = IsHeld,
                Steering = options.From(binding.Options) is { IsEmpty: false } steering ? steering.ToString() : null,
                SteeringProblem = steeringProblem,
                Problem = sources.Select(s => s.Problem).FirstOrDefault(problem => problem is not null),
            };
        }
    }

    /// <summary>Whether every handler runs on beyond its time limit, and nothing else is taken up.</summary>
    public bool IsStuck => parts.Deliveries.IsStuck;

    /// <summary>How long all of its handlers together have been busy since the beginning.</summary>
    public TimeSpan Busy => parts.Handlers.Times.Busy;

    /// <summary>Runs until <paramref name="stopping"/>, and then until everything in hand is settled.</summary>
    public async Task RunAsync(CancellationToken stopping)
    {
        parts.Handlers.Run(steered.Parallel, steered.MaxPerSecond);
        await Task.WhenAll(sources.Select(s => s.Loop.RunAsync(ending => ReceiveAsync(s, ending), stopping)))
            .ConfigureAwait(false);
        // Where there was no link at the stop, nobody else has told them.
        await parts.Handlers.FinishAsync().ConfigureAwait(false);
        LogStopped(logger, binding.Queue);
    }

    public void Dispose()
    {
        parts.Handlers.Dispose();
        parts.Deliveries.Dispose();
    }

    private async Task ReceiveAsync(Source source, CancellationToken stopping)
    {
        var ((broker, loop), options) = (source, steered);
        var link = await broker.OpenLinkAsync(binding.Queue, WorkerName.OfProcess, options.Lease, stopping)
            .ConfigureAwait(false);
        await using (link.ConfigureAwait(false))
        {
            // One that is lost at once, again and again, is told of by its loop.
            if (loop.Failures == 0)
                LogReceives(logger, binding.Queue, broker.DisplayName, options.Prefetch, options.Parallel);
            using var over = CancellationTokenSource.CreateLinkedTokenSource(stopping);
            var isBeside = source != sources[0];
            using var session = new LinkSession(parts, link, isBeside, broker.Abilities, loop.Succeeded, over);
            source.Session = session;
            try
            {
                await session.RunAsync().ConfigureAwait(false);
            }
            finally
            {
                source.Session = null;
            }
        }
    }

    /// <summary>Where links lead to, one after another.</summary>
    private sealed record Source(IBroker Broker, Loop Loop)
    {
        /// <summary>The one that lives; null where there is none.</summary>
        public LinkSession? Session { get; set; }

        public string? Problem => Loop.LastError ?? Session?.Problem;
    }

    [LoggerMessage(211, LogLevel.Information,
        "Receives from queue {Queue} of {Broker}: prefetch {Prefetch}, parallel {Parallel}")]
    private static partial void LogReceives(
        ILogger logger, string queue, string broker, Prefetch prefetch, int parallel);

    [LoggerMessage(213, LogLevel.Information, "No longer receives from queue {Queue}: what was in hand is settled")]
    private static partial void LogStopped(ILogger logger, string queue);
}

/// <summary>What a worker keeps while its links come and go.</summary>
internal sealed record WorkerParts(
    QueueBinding Binding, Handlers Handlers, DeliveryHandler Handler, Deliveries Deliveries, AttemptCounts Counts,
    TimeProvider Clock, ILogger Logger, IWitness? Witness);
