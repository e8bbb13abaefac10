using GentleCourier.Events;
using GentleCourier.Hosting;
using GentleCourier.Receiving.Handling;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Testing;

/// <summary>What a delivery that is made by hand is made of.</summary>
internal static class HandRuns
{
    private const string Queue = "trial";

    /// <summary>A queue of a receiver that is there already.</summary>
    public static QueueBinding Of<TContract>(IReceiver<TContract> receiver, Action<QueueBinding>? configure) =>
        Of(typeof(TContract), configure, new ContractHandler(
            receiver.GetType(), TakesBatches: false, (incoming, cancellationToken) =>
            {
                var read = incoming.Deliveries[0];
                return receiver.HandleAsync(
                    new(incoming.Codec.Decode<TContract>(read.Event), read, incoming.Queue, incoming.Inbox),
                    cancellationToken);
            }));

    /// <summary>A queue of a receiver of batches that is there already.</summary>
    public static QueueBinding Of<TContract>(IBatchReceiver<TContract> receiver, Action<QueueBinding>? configure) =>
        Of(typeof(TContract), configure, new ContractHandler(
            receiver.GetType(), TakesBatches: true, (incoming, cancellationToken) => receiver.HandleAsync(
                new(incoming.Queue, [.. incoming.Deliveries.Select(read => new BatchedDelivery<TContract>(
                    incoming.Codec.Decode<TContract>(read.Event), read))], incoming.Inbox),
                cancellationToken)));

    /// <summary>The queue that the services have for a contract.</summary>
    public static QueueBinding Find(IServiceProvider services, Type contract, string? queue)
    {
        var type = ContractCodec.WireTypeOf(contract);
        var all = services.GetRequiredService<CourierSetup>().Bindings;
        var found = all.Where(b => (queue is null || b.Queue == queue) && b.Handlers.ContainsKey(type)).ToList();
        if (found.Count == 1) return found[0];
        throw new TrialException(found.Count > 1
            ? $"{string.Join(" and ", found.Select(b => $"'{b.Queue}'"))} handle {type}: say which queue is meant"
            : $"no queue {(queue is null ? "" : $"'{queue}' ")}handles {type}; there are "
                + (all.Count == 0 ? "none: register what the program does, or hand the receiver over"
                    : string.Join(", ", all.Select(b => $"'{b.Queue}' with {string.Join(", ", b.Handlers.Keys)}"))));
    }

    public static (EncodedDelivery Delivery, TrialDelivery About) Encode<TContract>(
        TContract contract, TrialDelivery about, CourierOptions options, TimeProvider clock) where TContract : notnull
    {
        if (about.Attempt < 1)
            throw new ArgumentOutOfRangeException(
                nameof(about), about.Attempt, "TrialDelivery.Attempt must be 1 or more");
        var codec = new ContractCodec(options.Json, about.Source, options.MaxEventBytes, clock);
        return (new EncodedDelivery(codec.Encode(contract, about.Event).Json, about.Attempt), about);
    }

    private static QueueBinding Of(Type contract, Action<QueueBinding>? configure, ContractHandler handler)
    {
        var binding = new QueueBinding(Queue, new ServiceCollection());
        configure?.Invoke(binding);
        binding.Add(contract, handler);
        return binding;
    }
}
