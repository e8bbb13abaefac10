using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>What a handler of deliveries tells to whoever holds them. Thread-safe.</summary>
internal interface ISettler
{
    /// <summary>The outcome; only the first that is told counts.</summary>
    void Settle(Held delivery, Outcome outcome);

    /// <summary>It belongs to another by now.</summary>
    void Drop(Held delivery);

    /// <summary>A handler goes on though it should have ended.</summary>
    void DoesNotEnd();

    /// <summary>It has ended after all.</summary>
    void Ended();
}
