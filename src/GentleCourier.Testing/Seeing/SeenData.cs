using GentleCourier.Events;

namespace GentleCourier.Testing;

/// <summary>The data of events that a trial has seen.</summary>
internal static class SeenData
{
    /// <summary>Whether the event's type is that of the contract, or a former one.</summary>
    public static bool Is<TContract>(CourierEvent @event) =>
        ContractCodec.WireTypesOf(typeof(TContract)).Contains(@event.Type);

    /// <param name="event">The event.</param>
    /// <param name="codec">Reads its data.</param>
    /// <param name="how">How it was seen, for the message.</param>
    /// <exception cref="ContractException">It is no <typeparamref name="TContract"/>.</exception>
    public static TContract Of<TContract>(CourierEvent @event, ContractCodec codec, string how)
        where TContract : notnull => Is<TContract>(@event) ? codec.Decode<TContract>(@event)
            : throw new ContractException(
                typeof(TContract).Name, null, $"is not what was {how}, which is {@event.Type}");
}
