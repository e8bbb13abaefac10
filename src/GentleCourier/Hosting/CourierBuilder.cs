using GentleCourier.Engines;
using GentleCourier.Events;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier;

/// <summary>Says what this process publishes to and receives from. Used at start, by one thread.</summary>
public sealed class CourierBuilder
{
    private readonly Dictionary<string, QueueBinding> bindings = new(StringComparer.Ordinal);

    internal CourierBuilder(IServiceCollection services) => Services = services;

    /// <summary>The application's services, for engines and extensions to add to.</summary>
    public IServiceCollection Services { get; }

    /// <summary>Options of the whole process; settings <c>Courier:…</c> go before them.</summary>
    public CourierOptions Options { get; } = new();

    /// <summary>Options of the relay; settings <c>Courier:Relay:…</c> go before them.</summary>
    public RelayOptions Relay { get; } = new();

    /// <summary>For how long the store keeps things; settings <c>Courier:Retention:…</c> go before it.</summary>
    public RetentionOptions Retention { get; } = new();

    internal IReadOnlyCollection<QueueBinding> Bindings => bindings.Values;

    internal List<Func<IStore, CancellationToken, Task>> StorePreparations { get; } = [];

    /// <summary>
    /// Each says what of the service makes the tables of its store, such as its migrations; or null, and the host may.
    /// </summary>
    internal List<Func<IServiceProvider, IStorePort, string?>> MakersOfTables { get; } = [];

    /// <summary>Makes an engine known, so that addresses may name it.</summary>
    public CourierBuilder AddEngine(IEngine engine)
    {
        ArgumentNullException.ThrowIfNull(engine);
        Services.AddSingleton(engine);
        return this;
    }

    /// <summary>
    /// Prepares the service's own tables when the host starts: after the library's, and before anything is received or
    /// relayed. While the store is away it is waited for; what <paramref name="prepare"/> throws otherwise fails the
    /// start. It has to bear being repeated, also by several instances at once.
    /// </summary>
    public CourierBuilder PrepareStore(Func<IStore, CancellationToken, Task> prepare)
    {
        ArgumentNullException.ThrowIfNull(prepare);
        StorePreparations.Add(prepare);
        return this;
    }

    /// <summary>Receives from a queue.</summary>
    /// <param name="queue">1 to 100 lower-case letters, digits, <c>.</c>, <c>-</c> or <c>_</c>.</param>
    /// <param name="bind">Says which receivers handle its events, and with what limits.</param>
    /// <exception cref="ArgumentException">
    /// The name is not valid, the queue is bound already, or nothing handles its events.
    /// </exception>
    public CourierBuilder Receive(string queue, Action<QueueBinding> bind)
    {
        ArgumentNullException.ThrowIfNull(bind);
        if (!Names.IsQueue(queue))
            throw new ArgumentException($"'{queue}' is not a queue's name: {Names.QueueRule}", nameof(queue));
        var binding = new QueueBinding(queue, Services);
        bind(binding);
        if (binding.Handlers.Count == 0)
            throw new ArgumentException(
            $"queue '{queue}' has no receiver: call Handle<TContract, TReceiver>()", nameof(bind));
        if (!bindings.TryAdd(queue, binding))
            throw new ArgumentException($"queue '{queue}' is bound twice in this process", nameof(queue));
        return this;
    }
}
