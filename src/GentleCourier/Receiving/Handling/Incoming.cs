using GentleCourier.Events;

namespace GentleCourier.Receiving.Handling;

/// <summary>Deliveries on their way to the receiver of their contract.</summary>
internal sealed record Incoming(
    IReadOnlyList<ReadDelivery> Deliveries, string Queue, InboxTransaction Inbox, ContractCodec Codec,
        IServiceProvider Services);

/// <summary>Calls the receiver of a contract.</summary>
internal sealed record ContractHandler(bool TakesBatches, Func<Incoming, CancellationToken, Task> HandleAsync);
