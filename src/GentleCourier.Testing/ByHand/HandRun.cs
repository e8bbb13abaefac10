using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using GentleCourier.Receiving.Handling;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Testing;

/// <summary>A delivery that was made by hand.</summary>
internal sealed class EncodedDelivery(ReadOnlyMemory<byte> json, int attempt) : HandOver(json, attempt, null);

/// <summary>
/// Hands deliveries to the receiver of a queue once, as a worker that has taken them would, and has nobody to tell.
/// </summary>
internal sealed class HandRun : ISettler, IDisposable
{
    private readonly QueueBinding binding;
    private readonly IWitness witness;
    private readonly Deliveries owner;
    private readonly Deliveries.LinkWait link;
    private readonly DeliveryHandler handler;
    private readonly List<TakenDelivery> taken;

    public HandRun(QueueBinding binding, IServiceProvider services, TrialClock clock,
        IReadOnlyList<(EncodedDelivery Delivery, TrialDelivery About)> deliveries)
    {
        this.binding = binding;
        binding.Options.BatchSize = Math.Max(binding.Options.BatchSize, deliveries.Count);
        witness = services.GetRequiredService<IWitness>();
        var counts = new AttemptCounts(clock.Library);
        owner = new Deliveries(deliveries.Count, 1, deliveries.Count, counts, clock.Library);
        link = owner.Open(new LinkAccount { Settler = this });
        handler = new DeliveryHandler(
            binding, services.FindStore(), services.GetRequiredService<ContractCodec>(),
            services.GetRequiredService<IServiceScopeFactory>(), owner, clock.Library,
            services.GetRequiredService<ILogger<HandRun>>(), witness);
        var now = clock.Library.GetTimestamp();
        taken = [.. deliveries.Select(d => new TakenDelivery(
            d.Delivery, new Attempts(d.About.Attempt, d.About.Uncounted, now, now), link.Account, owner))];
    }

    public async Task HandleAsync(CancellationToken cancellationToken)
    {
        owner.Came(link, taken, areSuspect: false);
        for (var i = 0; i < taken.Count; i++) await owner.TakeUpAsync(cancellationToken).ConfigureAwait(false);
        await handler.HandleAsync(taken, cancellationToken).ConfigureAwait(false);
    }

    /// <summary>
    /// Says what came of it. What waits for others of its type to fail or succeed is as if it were the only one.
    /// </summary>
    public void Tell()
    {
        foreach (var delivery in taken)
            witness.Settled(binding, delivery, delivery.Outcome ?? delivery.Doubt?.Rejected ?? Outcome.Released);
    }

    public Task<List<TakenDelivery>> SettleOnArrivalAsync(List<TakenDelivery> deliveries) =>
        Task.FromResult(deliveries);

    public void Dispose()
    {
        owner.Close(link);
        owner.Dispose();
    }
}
