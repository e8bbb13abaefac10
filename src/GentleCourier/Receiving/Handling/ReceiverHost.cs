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
        var beating = broker.Register is { } register
            ? new Beats(register, workers, clock.Aside, safely).RunAsync(ended.Token) : Task.CompletedTask;
        await Task.WhenAll(workers.Select(
            worker => Task.Run(() => worker.RunAsync(stoppingToken), CancellationToken.None))).ConfigureAwait(false);
        await ended.CancelAsync().ConfigureAwait(false);
        await beating.ConfigureAwait(false);
        Workers = [];
        workers.ForEach(worker => worker.Dispose());
    }
}
