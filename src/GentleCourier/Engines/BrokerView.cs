using GentleCourier.Companions;

namespace GentleCourier.Engines;

/// <summary>How tools look at a broker that leaves something to companions.</summary>
internal static class BrokerView
{
    /// <summary>
    /// Whether a broker leaves delays, attempts or dead letters to companions in the stores of those who receive from
    /// it.
    /// </summary>
    public static bool HasCompanions(this IBroker broker)
    {
        ArgumentNullException.ThrowIfNull(broker);
        return BrokerWithCompanion.IsNeededBy(broker);
    }

    /// <summary>
    /// A broker and companions, to be looked at and worked on by hand together; nobody receives by it. Disposing it
    /// disposes them all.
    /// </summary>
    /// <param name="broker">The broker.</param>
    /// <param name="companions">
    /// Companions of services, by <see cref="IEngine.CreateCompanion"/>, each with a name: where there are several, it
    /// is part of the ids of dead letters.
    /// </param>
    public static IBroker With(this IBroker broker, IReadOnlyList<(string Name, IBroker Broker)> companions) =>
        new BrokerInView(broker, companions);
}
