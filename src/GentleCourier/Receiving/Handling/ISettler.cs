namespace GentleCourier.Receiving.Handling;

/// <summary>Whoever holds deliveries for their handlers. Thread-safe.</summary>
internal interface ISettler
{
    /// <summary>
    /// Settles what is about to be handled. What could not be settled is left to come again, unhandled.
    /// </summary>
    /// <returns>What is settled.</returns>
    Task<List<TakenDelivery>> SettleOnArrivalAsync(List<TakenDelivery> deliveries);
}
