using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Hosting;

/// <summary>
/// Before anything else starts: the store's tables are there, and for a process that receives, its queues and routes. A
/// process that only publishes starts without the broker: its outbox takes the events, and the relay waits.
/// </summary>
internal sealed class Preparation(CourierBuilder builder, IServiceProvider services) : IHostedLifecycleService
{
    public async Task StartingAsync(CancellationToken cancellationToken)
    {
        var create = builder.Options.CreateMissing;
        if (services.GetService<IStorePort>() is { } store)
            await PrepareAsync(store, create, cancellationToken).ConfigureAwait(false);

        FaultPoint.Pass(FaultPoint.StorePreparedOnly);
        var queues = builder.Bindings.ToList();
        if (queues.Count == 0) return;
        var routes = queues.SelectMany(q => q.Handlers.Keys.Select(type => new Route(type, q.Queue))).ToList();
        await services.GetRequiredService<IBroker>()
            .PrepareAsync(new Topology(queues.ConvertAll(q => q.Queue), routes), create, cancellationToken)
                .ConfigureAwait(false);
    }

    private async Task PrepareAsync(IStorePort store, bool create, CancellationToken cancellationToken)
    {
        var maker = builder.MakersOfTables.ConvertAll(find => find(services, store)).Find(found => found is not null);
        try
        {
            await store.PrepareAsync(create && maker is null, cancellationToken).ConfigureAwait(false);
        }
        catch (CourierException e) when (maker is not null)
        {
            throw new CourierException(
                $"{e.Message}; here they are made by {maker}: let it, before the host starts", e);
        }
    }

    public Task StartAsync(CancellationToken cancellationToken) => Task.CompletedTask;

    public Task StartedAsync(CancellationToken cancellationToken) => Task.CompletedTask;

    public Task StoppingAsync(CancellationToken cancellationToken) => Task.CompletedTask;

    public Task StopAsync(CancellationToken cancellationToken) => Task.CompletedTask;

    public Task StoppedAsync(CancellationToken cancellationToken) => Task.CompletedTask;
}
