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
    /// A broker and what is beside the stores of services, to be looked at and worked on by hand together; nobody
    /// receives by it. Disposing it disposes them all.
    /// </summary>
    /// <param name="broker">The broker.</param>
    /// <param name="services">Services that receive or publish.</param>
    public static IBroker With(this IBroker broker, IReadOnlyList<ServiceInView> services) =>
        new BrokerInView(broker, services);

    /// <summary>
    /// Where orders by hand are written for those who receive: at the broker, or at each companion of one that is
    /// looked at with them.
    /// </summary>
    public static IReadOnlyList<IBroker> OrderedAt(this IBroker broker) =>
        broker is BrokerInView view ? [.. view.InView.Select(s => s.Broker)] : [broker];
}

/// <summary>A service that is looked at.</summary>
/// <param name="Name">Its name; where there are several, it is part of the ids of dead letters.</param>
/// <param name="Broker">Its companion, by <see cref="IEngine.CreateCompanion"/>.</param>
/// <param name="Store">Its store.</param>
internal sealed record ServiceInView(string Name, IBroker Broker, IStorePort Store);
