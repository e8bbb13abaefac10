using GentleCourier.Events;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Receiving.Handling;

/// <summary>Deliveries on their way to the receiver of their contract.</summary>
internal sealed record Incoming(
    IReadOnlyList<ReadDelivery> Deliveries, string Queue, InboxTransaction Inbox, ContractCodec Codec,
        IServiceProvider Services)
{
    /// <summary>A service of the delivery's scope, such as its receiver.</summary>
    /// <exception cref="NotBuiltException">It, or something that it needs, is missing or fails.</exception>
    public T Build<T>() where T : notnull
    {
        try
        {
            return Services.GetRequiredService<T>();
        }
        catch (Exception e)
        {
            throw new NotBuiltException(typeof(T), e);
        }
    }
}

/// <summary>Calls the receiver of a contract.</summary>
/// <param name="Receiver">Its class.</param>
/// <param name="TakesBatches">Whether it takes batches.</param>
/// <param name="HandleAsync">Calls it.</param>
internal sealed record ContractHandler(
    Type Receiver, bool TakesBatches, Func<Incoming, CancellationToken, Task> HandleAsync);
