using GentleCourier.Engines;
using GentleCourier.Receiving;
using GentleCourier.Receiving.Handling;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Hosting;

/// <summary>
/// Before anything else starts: the store's tables are there, and for a process that receives, its queues and routes. A
/// process that only publishes starts without the broker: its outbox takes the events, and the relay waits. What is
/// wrong fails the start; what is away is waited for in the background, started but not ready.
/// </summary>
internal sealed partial class Preparation(
    CourierSetup setup, IServiceProvider services, CourierClock clock, ILogger<Preparation> logger)
    : IDisposable
{
    private static readonly TimeSpan FirstRest = TimeSpan.FromMilliseconds(200);
    private static readonly TimeSpan LongestRest = TimeSpan.FromSeconds(5);

    private readonly TaskCompletionSource done = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly CancellationTokenSource trying = new();
    private Task waiting = Task.CompletedTask;

    /// <summary>Whether all is there.</summary>
    public bool IsDone => done.Task.IsCompletedSuccessfully;

    /// <summary>Why it is not done yet.</summary>
    public string WaitsFor { get; private set; } = "the host has not started";

    /// <summary>
    /// What is missing at the broker of a process that publishes: it works without, and its outbox takes what is
    /// published. Null: nothing.
    /// </summary>
    public string? Note { get; set; }

    /// <summary>Waits until all is there. False: cancelled before it was.</summary>
    public async Task<bool> IsDoneAsync(CancellationToken cancellationToken)
    {
        await done.Task.WaitAsync(cancellationToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        return done.Task.IsCompletedSuccessfully;
    }

    public async Task StartAsync(CancellationToken cancellationToken)
    {
        CheckReceivers();
        TellOfStrangers();
        try
        {
            await PrepareAsync(cancellationToken).WaitAsync(cancellationToken).ConfigureAwait(false);
            done.TrySetResult();
        }
        catch (OperationCanceledException) when (cancellationToken.IsCancellationRequested)
        {
            // The host is told to stop before it has started; it does so by itself.
        }
        catch (CourierException e) when (e.IsTransient)
        {
            WaitsFor = e.Message;
            LogNotReady(logger, e.Message);
            waiting = new Loop("Preparing to receive and to relay", FirstRest, LongestRest, clock.Time, logger)
                .RunAsync(TryAgainAsync, trying.Token);
        }
    }

    public async Task StopAsync(CancellationToken cancellationToken)
    {
        await trying.CancelAsync().ConfigureAwait(false);
        await waiting.WaitAsync(cancellationToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    public void Dispose() => trying.Dispose();

    private async Task TryAgainAsync(CancellationToken ending)
    {
        try
        {
            await PrepareAsync(ending).ConfigureAwait(false);
        }
        catch (Exception e) when (!ending.IsCancellationRequested)
        {
            WaitsFor = Words.Of(e);
            throw;
        }
        done.TrySetResult();
        LogReady(logger);
        await trying.CancelAsync().ConfigureAwait(false);
    }

    /// <summary>A receiver that can never be built would fail at every event: it fails the start.</summary>
    private void CheckReceivers()
    {
        if (services.GetService<IServiceProviderIsService>() is not { } known) return;
        foreach (var binding in setup.Bindings)
        {
            foreach (var receiver in binding.Handlers.Values.Select(h => h.Receiver).Distinct())
            {
                if (new Buildable(setup.Services, known).MissingOf(receiver) is { } missing)
                    throw new CourierException(
                        $"the receiver {receiver.Name} of queue '{binding.Queue}' cannot be built: {missing}; register "
                        + "it before the host starts");
            }
        }
    }

    private async Task PrepareAsync(CancellationToken cancellationToken)
    {
        var create = setup.Options.CreateMissing;
        if (services.FindStore() is { } store)
        {
            await PrepareAsync(store, create, cancellationToken).ConfigureAwait(false);
            foreach (var prepare in setup.StorePreparations)
                await PrepareAsync(store, prepare, cancellationToken).ConfigureAwait(false);
        }

        FaultPoint.Pass(FaultPoint.StorePreparedOnly);
        var queues = setup.Bindings.ToList();
        if (queues.Count == 0) return;
        var routes = queues.SelectMany(q => q.Handlers.Keys.Select(type => new Route(type, q.Queue))).ToList();
        var broker = services.GetRequiredService<IBroker>();
        var lacking = setup.Options.Store is not null ? null
            : queues.Select(q => WithoutStore.Lacks(q, broker)).FirstOrDefault(lack => lack is not null);
        if (lacking is not null) throw new CourierException(lacking);
        if (setup.Options.Store is null && !broker.Abilities.HasFlag(BrokerAbilities.Delays))
            LogNoStore(logger, broker.DisplayName);
        var inKeyOrder = queues.FindAll(q => q.Options.InKeyOrder).ConvertAll(q => q.Queue);
        if (inKeyOrder.Count > 0 && !broker.Abilities.HasFlag(BrokerAbilities.KeyOrder))
        {
            throw new CourierException(
                $"{broker.DisplayName} cannot keep the order of a partition key, which queue '{inKeyOrder[0]}' asks "
                + $"for; set Courier:Receivers:{inKeyOrder[0]}:InKeyOrder to false");
        }
        var topology = new Topology(queues.ConvertAll(q => q.Queue), routes) { InKeyOrder = inKeyOrder };
        await broker.PrepareAsync(topology, create, cancellationToken).ConfigureAwait(false);
    }

    private async Task PrepareAsync(IStorePort store, bool create, CancellationToken cancellationToken)
    {
        var maker = setup.MakersOfTables.Select(find => find(services, store))
            .FirstOrDefault(found => found is not null);
        try
        {
            await store.PrepareAsync(create && maker is null, cancellationToken).ConfigureAwait(false);
        }
        catch (CourierException e) when (maker is not null && e.WithoutAdvice is { } what)
        {
            throw new CourierException($"{what}; {maker}", e);
        }
    }

    /// <summary>What the service does with its own tables fails with the driver's exceptions.</summary>
    private static async Task PrepareAsync(
        IStorePort store, Func<IStore, CancellationToken, Task> prepare, CancellationToken cancellationToken)
    {
        try
        {
            await prepare(store, cancellationToken).ConfigureAwait(false);
        }
        catch (Exception e) when (e is not CourierException && Cause.IsAround(e, store))
        {
            throw new CourierException(
                $"the service's own tables in {store.DisplayName} could not be prepared: {Words.InLine(e)}", e)
            {
                IsTransient = true,
            };
        }
    }

    /// <summary>Settings that several processes share name what others receive; a slip looks the same.</summary>
    private void TellOfStrangers()
    {
        if (setup.Strangers.Count == 0) return;
        var names = string.Join(", ", setup.Strangers);
        LogStrangers(
            logger, setup.Strangers.Any(s => s.Nearest is not null) ? LogLevel.Warning : LogLevel.Information, names);
    }

    [LoggerMessage(EventId = 403, Message =
        "Settings without effect here, since this process has registered nothing by these names: {Names}")]
    private static partial void LogStrangers(ILogger logger, LogLevel level, string names);

    [LoggerMessage(406, LogLevel.Warning,
        "What is received from {Broker} has no store beside it: an attempt that ends with its process is counted only "
        + "where the broker counts it; set Courier:Store for the others")]
    private static partial void LogNoStore(ILogger logger, string broker);

    [LoggerMessage(401, LogLevel.Error,
        "Started, but not ready: nothing is received or relayed until this has passed: {Problem}")]
    private static partial void LogNotReady(ILogger logger, string problem);

    [LoggerMessage(402, LogLevel.Information, "Ready: all that was waited for is there")]
    private static partial void LogReady(ILogger logger);
}
