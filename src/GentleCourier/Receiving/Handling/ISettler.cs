using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>Whoever holds deliveries for their handlers. Thread-safe.</summary>
internal interface ISettler
{
    /// <summary>The outcome has been decided.</summary>
    void Settle(TakenDelivery delivery, Outcome outcome);

    /// <summary>It belongs to another by now: there is nothing to settle.</summary>
    void Drop(TakenDelivery delivery);

    /// <summary>
    /// Settles what is about to be handled. What could not be settled is left to come again, unhandled.
    /// </summary>
    /// <returns>What is settled.</returns>
    Task<List<TakenDelivery>> SettleOnArrivalAsync(List<TakenDelivery> deliveries);
}
