using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>Runs a worker for each bound queue, once all is prepared, and stops them together.</summary>
internal sealed class ReceiverHost(
    IEnumerable<QueueBinding> bindings,
    IBroker broker,
    ContractCodec codec,
    IServiceProvider services,
    Preparation preparation,
    TimeProvider clock,
    ILogger<ReceiverHost> logger) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (!await preparation.IsDoneAsync(stoppingToken).ConfigureAwait(false)) return;
        await Task.WhenAll(bindings.Select(
            binding => Task.Run(() => ReceiveAsync(binding, stoppingToken), CancellationToken.None)))
            .ConfigureAwait(false);
    }

    private async Task ReceiveAsync(QueueBinding binding, CancellationToken stopping)
    {
        using var worker = new QueueWorker(
            binding, broker, services.GetService<IStorePort>(), codec,
            services.GetRequiredService<IServiceScopeFactory>(), clock, new SafeLogger(logger));
        await worker.RunAsync(stopping).ConfigureAwait(false);
    }
}
