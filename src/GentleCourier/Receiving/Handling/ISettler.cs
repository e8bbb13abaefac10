using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>Whoever holds deliveries for their handlers. Thread-safe.</summary>
internal interface ISettler
{
    /// <summary>The outcome has been decided.</summary>
    void Settle(Held delivery, Outcome outcome);

    /// <summary>It belongs to another by now: there is nothing to settle.</summary>
    void Drop(Held delivery);

    /// <summary>
    /// Settles what is about to be handled. What could not be settled is left to come again, unhandled.
    /// </summary>
    /// <returns>What is settled.</returns>
    Task<List<Held>> SettleOnArrivalAsync(List<Held> deliveries);
}
