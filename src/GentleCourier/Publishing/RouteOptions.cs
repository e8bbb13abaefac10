using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier;

/// <summary>
/// Which types of events go to which queues, for a broker that does not know it itself, such as one that is reached by
/// AMQP 1.0. Settings: <c>Courier:Routes:TYPE</c>, queues separated by commas; they go before what code says.
/// </summary>
public sealed class RouteOptions
{
    private readonly Dictionary<string, IReadOnlyList<string>> addresses = new(StringComparer.Ordinal);

    internal IReadOnlyDictionary<string, IReadOnlyList<string>> Addresses => addresses;

    /// <summary>Those that lead to queues.</summary>
    internal IReadOnlyList<Route> All =>
        [.. addresses.SelectMany(a => a.Value.Where(Names.IsQueue), (a, queue) => new Route(a.Key, queue))];

    /// <summary>Says where events of a type go; what was said of it before no longer holds.</summary>
    /// <param name="type">The wire type.</param>
    /// <param name="queues">
    /// Names of queues, at least one; what is no queue's name, since it has a slash, is an address as the broker writes
    /// them.
    /// </param>
    /// <exception cref="ArgumentException">
    /// No wire type; or neither a queue's name nor an address, or nothing.
    /// </exception>
    public RouteOptions Add(string type, params IEnumerable<string> queues)
    {
        ArgumentException.ThrowIfNullOrWhiteSpace(type);
        if (!Names.IsWireType(type))
            throw new ArgumentException($"'{type}' is not a wire type: {Names.WireTypeRule}", nameof(type));
        string[] all = [.. queues.Distinct(StringComparer.Ordinal)];
        if (all.Length == 0) throw new ArgumentException($"type '{type}' is routed to no queue", nameof(queues));
        if (Array.Find(all, q => !IsAddress(q)) is { } wrong)
            throw new ArgumentException(
                $"type '{type}' is routed to '{wrong}', which is no queue's name ({Names.QueueRule}) and no address of "
                + "a broker's own, with a slash in it", nameof(queues));
        addresses[type] = all;
        return this;
    }

    private static bool IsAddress(string place) => Names.IsQueue(place)
        || (place.Contains('/', StringComparison.Ordinal) && place.Length <= 255 && !place.Any(char.IsControl));
}
