using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>Runs a worker for each bound queue, once all is prepared, and stops them together.</summary>
internal sealed class ReceiverHost(
    CourierSetup setup,
    IBroker broker,
    ContractCodec codec,
    IServiceProvider services,
    Preparation preparation,
    CourierClock clock,
    ILogger<ReceiverHost> logger,
    IWitness? witness = null) : BackgroundService
{
    /// <summary>Those that run; none before all is prepared.</summary>
    public IReadOnlyList<QueueWorker> Workers { get; private set; } = [];

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (!await preparation.IsDoneAsync(stoppingToken).ConfigureAwait(false)) return;
        var safely = new SafeLogger(logger);
        var workers = setup.Bindings.Select(binding => new QueueWorker(
            binding, broker, services.FindStore(), codec,
            services.GetRequiredService<IServiceScopeFactory>(), clock.Time, safely, witness)).ToList();
        Workers = workers;
        using var ended = new CancellationTokenSource();
        var id = WorkerName.Unique();
        var obedience = broker.Services.Instructions is { } orders
            ? new Obedience(id, orders, workers, services.FindStore()?.MostConnections, clock.Aside, safely) : null;
        var obeying = obedience?.RunAsync(ended.Token) ?? Task.CompletedTask;
        var beating = broker.Register is { } register
            ? new Beats(id, register, workers, obedience, clock.Aside, safely).RunAsync(ended.Token)
            : Task.CompletedTask;
        await RunAsync(workers, obedience, stoppingToken).ConfigureAwait(false);
        await ended.CancelAsync().ConfigureAwait(false);
        await obeying.ConfigureAwait(false);
        await beating.ConfigureAwait(false);
        Workers = [];
        workers.ForEach(worker => worker.Dispose());
    }

    private async Task RunAsync(List<QueueWorker> workers, Obedience? obedience, CancellationToken stopping)
    {
        // A broker that has a companion hands over what is paused as well: only the worker knows.
        if (broker.Companion is not null && obedience is not null)
            await Task.WhenAny(obedience.Knows, Task.Delay(Timeout.Infinite, stopping)).ConfigureAwait(false);
        await Task.WhenAll(workers.Select(
            worker => Task.Run(() => worker.RunAsync(stopping), CancellationToken.None))).ConfigureAwait(false);
    }
}
