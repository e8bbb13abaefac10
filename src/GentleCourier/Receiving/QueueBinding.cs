using System.Diagnostics.CodeAnalysis;
using GentleCourier.Events;
using GentleCourier.Receiving.Handling;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection.Extensions;

namespace GentleCourier;

/// <summary>
/// Says which receivers handle the events of one queue, and with what limits. Used at start, by one thread.
/// </summary>
public sealed class QueueBinding
{
    private readonly IServiceCollection services;
    private readonly Dictionary<string, ContractHandler> handlers = new(StringComparer.Ordinal);
    private readonly List<Type> useless = [];

    internal QueueBinding(string queue, IServiceCollection services)
    {
        Queue = queue;
        this.services = services;
    }

    /// <summary>The queue.</summary>
    public string Queue { get; }

    /// <summary>The limits; settings <c>Courier:Receivers:{queue}:…</c> go before them.</summary>
    public ReceiverOptions Options { get; } = new();

    /// <summary>
    /// The longest that a receiver may ask an event to be put off: half of what the inbox remembers. Null: as long as
    /// it likes.
    /// </summary>
    internal TimeSpan? LongestAsked { get; set; }

    internal IReadOnlyDictionary<string, ContractHandler> Handlers => handlers;

    /// <summary>
    /// Events of <typeparamref name="TContract"/> are handled by <typeparamref name="TReceiver"/>, and routed to this
    /// queue. The receiver is registered as a scoped service unless it is registered already.
    /// </summary>
    /// <exception cref="ContractException">The contract declares no valid wire type.</exception>
    /// <exception cref="InvalidOperationException">
    /// The queue has a receiver for that wire type, or for a former one, already.
    /// </exception>
    public QueueBinding Handle<TContract, [DynamicallyAccessedMembers(
        DynamicallyAccessedMemberTypes.PublicConstructors)] TReceiver>()
        where TReceiver : class, IReceiver<TContract>
    {
        Add(typeof(TContract), new ContractHandler(
            typeof(TReceiver), TakesBatches: false, InvokeAsync<TContract, TReceiver>));
        services.TryAddScoped<TReceiver>();
        return this;
    }

    /// <summary>
    /// Has events of a contract handled in batches by a receiver, which is built anew for each batch, in a scope of its
    /// own. How large they may be, and how long one waits to be full, <see cref="ReceiverOptions.BatchSize"/> and
    /// <see cref="ReceiverOptions.BatchWait"/> say.
    /// </summary>
    /// <exception cref="ContractException">The contract declares no valid wire type.</exception>
    /// <exception cref="InvalidOperationException">The queue has a receiver for that wire type already.</exception>
    public QueueBinding HandleBatches<TContract, [DynamicallyAccessedMembers(
        DynamicallyAccessedMemberTypes.PublicConstructors)] TReceiver>()
        where TReceiver : class, IBatchReceiver<TContract>
    {
        Add(typeof(TContract), new ContractHandler(
            typeof(TReceiver), TakesBatches: true, InvokeBatchAsync<TContract, TReceiver>));
        services.TryAddScoped<TReceiver>();
        return this;
    }

    /// <summary>
    /// An event whose receiver fails with this exception, or one derived from it, is set aside at once: trying again is
    /// useless.
    /// </summary>
    public QueueBinding RejectOn<TException>() where TException : Exception
    {
        useless.Add(typeof(TException));
        return this;
    }

    /// <summary>How many deliveries are taken up together: one, where no receiver takes batches.</summary>
    internal int BatchSize => handlers.Values.Any(h => h.TakesBatches) ? Options.BatchSize : 1;

    /// <summary>Called before each call of a receiver, which then finds everything as it likes it.</summary>
    internal Func<Incoming, CancellationToken, Task>? Before { get; set; }

    /// <summary>
    /// Whether each delivery's transaction begins before anything else does: its row in the inbox decides then whether
    /// the event is new, and to look for it first would only cost.
    /// </summary>
    internal bool BeginsFirst { get; set; }

    /// <summary>What is around each call of a receiver in this process, the outermost first.</summary>
    internal IReadOnlyList<HandlingStep> Around { get; set; } = [];

    internal Task HandleAsync(Incoming incoming, CancellationToken cancellationToken)
    {
        var handler = handlers[incoming.Deliveries[0].Event.Type];
        return Around.Count == 0 ? CallAsync(handler, incoming, cancellationToken)
            : AroundAsync(new Handling(incoming, handler.Receiver), handler, incoming, cancellationToken);
    }

    /// <summary>What is around a receiver may decide, and says so: it does not by what it leaves out.</summary>
    private async Task AroundAsync(
        Handling handling, ContractHandler handler, Incoming incoming, CancellationToken cancellationToken)
    {
        await StepAsync(0, handling, handler, incoming, cancellationToken).ConfigureAwait(false);
        if (handling.IsAccepted) return;
        if (handling.Call is not { } call)
        {
            throw new InvalidOperationException(
                $"code around the handlers of queue '{Queue}' has not gone on to {handler.Receiver.Name}; `await "
                + "next(cancellationToken)`, or say `handling.Accept()` where its events are to count as handled");
        }
        if (!call.IsCompleted)
        {
            throw new InvalidOperationException(
                $"code around the handlers of queue '{Queue}' has returned before {handler.Receiver.Name} has; "
                + "`await` what `next` returns");
        }
        // What it has swallowed is a failure all the same.
        await call.ConfigureAwait(false);
    }

    private Task StepAsync(
        int number, Handling handling, ContractHandler handler, Incoming incoming,
        CancellationToken cancellationToken)
    {
        if (number == Around.Count) return handling.Call = CallAsync(handler, incoming, cancellationToken);
        var calls = 0;
        return Around[number](
            handling, cancel => Interlocked.Increment(ref calls) == 1
                ? StepAsync(number + 1, handling, handler, incoming, cancel)
                : throw new InvalidOperationException(
                    $"code around the handlers of queue '{Queue}' has gone on to the receiver twice, which would act "
                    + "twice; call `next` once"),
            cancellationToken);
    }

    private async Task CallAsync(ContractHandler handler, Incoming incoming, CancellationToken cancellationToken)
    {
        if (Before is not null) await Before(incoming, cancellationToken).ConfigureAwait(false);
        await handler.HandleAsync(incoming, cancellationToken).ConfigureAwait(false);
    }

    internal bool IsUseless(Exception e) => useless.Exists(type => type.IsInstanceOfType(e));

    internal void Add(Type contract, ContractHandler handler)
    {
        foreach (var type in ContractCodec.WireTypesOf(contract))
            if (!handlers.TryAdd(type, handler))
                throw new InvalidOperationException($"queue '{Queue}' already has a receiver for '{type}'");
    }

    private static Task InvokeAsync<TContract, TReceiver>(Incoming incoming, CancellationToken cancellationToken)
        where TReceiver : class, IReceiver<TContract>
    {
        var read = incoming.Deliveries[0];
        var data = incoming.Codec.Decode<TContract>(read.Event);
        var receiver = incoming.Build<TReceiver>();
        var delivery = new Delivery<TContract>(data, read, incoming.Queue, incoming.Inbox);
        return receiver.HandleAsync(delivery, cancellationToken);
    }

    private static Task InvokeBatchAsync<TContract, TReceiver>(Incoming incoming, CancellationToken cancellationToken)
        where TReceiver : class, IBatchReceiver<TContract>
    {
        var items = new List<BatchedDelivery<TContract>>(incoming.Deliveries.Count);
        foreach (var read in incoming.Deliveries)
        {
            try
            {
                items.Add(new BatchedDelivery<TContract>(incoming.Codec.Decode<TContract>(read.Event), read));
            }
            catch (ContractException e)
            {
                read.Failure = e;
            }
        }
        if (items.Count == 0) return Task.CompletedTask;
        var receiver = incoming.Build<TReceiver>();
        var batch = new DeliveryBatch<TContract>(incoming.Queue, items, incoming.Inbox);
        return receiver.HandleAsync(batch, cancellationToken);
    }
}
