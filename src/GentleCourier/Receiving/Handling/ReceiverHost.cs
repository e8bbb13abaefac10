using GentleCourier.Engines;
using GentleCourier.Events;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>Runs a worker for each bound queue, and stops them together.</summary>
internal sealed class ReceiverHost(
    IEnumerable<QueueBinding> bindings,
    IBroker broker,
    ContractCodec codec,
    IServiceProvider services,
    TimeProvider clock,
    ILogger<ReceiverHost> logger) : BackgroundService
{
    protected override Task ExecuteAsync(CancellationToken stoppingToken) =>
        Task.WhenAll(bindings.Select(
            binding => Task.Run(() => WorkerOf(binding).RunAsync(stoppingToken), CancellationToken.None)));

    private QueueWorker WorkerOf(QueueBinding binding)
    {
        var scopes = services.GetRequiredService<IServiceScopeFactory>();
        var handler = new DeliveryHandler(binding, services.GetService<IStorePort>(), codec, scopes, clock, logger);
        return new QueueWorker(binding, broker, handler, clock, logger);
    }
}
