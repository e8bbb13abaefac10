using System.Diagnostics.CodeAnalysis;
using GentleCourier.Events;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection.Extensions;

namespace GentleCourier.Receiving;

/// <summary>Says which receivers handle the events of one queue, and with what limits. Used at start, by one thread.</summary>
public sealed class QueueBinding
{
    private readonly IServiceCollection services;
    private readonly Dictionary<string, ContractHandler> handlers = new(StringComparer.Ordinal);

    internal QueueBinding(string queue, IServiceCollection services)
    {
        Queue = queue;
        this.services = services;
    }

    /// <summary>The queue.</summary>
    public string Queue { get; }

    /// <summary>The limits; settings <c>Courier:Receivers:{queue}:…</c> go before them.</summary>
    public ReceiverOptions Options { get; } = new();

    internal IReadOnlyDictionary<string, ContractHandler> Handlers => handlers;

    /// <summary>
    /// Events of <typeparamref name="TContract"/> are handled by <typeparamref name="TReceiver"/>, and routed to this
    /// queue. The receiver is registered as a scoped service unless it is registered already.
    /// </summary>
    /// <exception cref="ContractException">The contract declares no valid wire type.</exception>
    /// <exception cref="InvalidOperationException">The queue has a receiver for that wire type already.</exception>
    public QueueBinding Handle<TContract, [DynamicallyAccessedMembers(DynamicallyAccessedMemberTypes.PublicConstructors)] TReceiver>()
        where TReceiver : class, IReceiver<TContract>
    {
        var type = ContractCodec.WireTypeOf(typeof(TContract));
        if (!handlers.TryAdd(type, InvokeAsync<TContract, TReceiver>))
            throw new InvalidOperationException($"queue '{Queue}' already has a receiver for '{type}'");
        services.TryAddScoped<TReceiver>();
        return this;
    }

    private static Task InvokeAsync<TContract, TReceiver>(Incoming incoming, CancellationToken cancellationToken)
        where TReceiver : class, IReceiver<TContract>
    {
        var data = incoming.Codec.Decode<TContract>(incoming.Event);
        var receiver = incoming.Services.GetRequiredService<TReceiver>();
        var delivery = new Delivery<TContract>(data, incoming.Event, incoming.Queue, incoming.Attempt, incoming.Inbox);
        return receiver.HandleAsync(delivery, cancellationToken);
    }
}

/// <summary>A delivery on its way to the receiver of its contract.</summary>
internal sealed record Incoming(
    Event Event, string Queue, int Attempt, InboxTransaction Inbox, ContractCodec Codec, IServiceProvider Services);

internal delegate Task ContractHandler(Incoming incoming, CancellationToken cancellationToken);
