using GentleCourier.Watching;

namespace GentleCourier.Engines;

/// <summary>What engines say alike.</summary>
internal static class BrokerProblems
{
    /// <summary>Queues that must keep the order of a key do not.</summary>
    public static CourierException NotInKeyOrder(string broker, IEnumerable<string> queues)
    {
        var names = queues.ToList();
        var command = string.Concat(names.Select(q => $" --in-key-order {q}"));
        return new CourierException(
            $"queue {string.Join(", ", names.Select(q => $"'{q}'"))} of {broker} does not keep the order of a "
            + $"partition key; have it do so with `courier schema apply broker --broker '{broker}'{command}`, or in "
            + "development set Courier:CreateMissing to true");
    }

    /// <summary>Queues or routes that must exist do not.</summary>
    public static CourierException Missing(
        string broker, IReadOnlyCollection<string> queues, IReadOnlyCollection<Route> routes,
            IReadOnlyCollection<string>? known)
    {
        var what = queues.Count > 0
            ? $"queue {string.Join(", ", queues.Select(q => $"'{q}'"))}"
            : $"route {string.Join(", ", routes.Select(r => $"'{r.Type}' to '{r.Queue}'"))}";
        var meant = queues.Select(q => known?.FirstOrDefault(k => Similar.Are(k, q))).OfType<string>().FirstOrDefault();
        var there = meant is not null ? $" (did you mean {meant}?)"
            : known is { Count: > 0 } ? $" (there are {string.Join(", ", known)})" : "";
        var command = string.Concat(
            queues.Select(q => $" --queue {q}").Concat(routes.Select(r => $" --route {r.Type}={r.Queue}")));
        return new CourierException(
            $"{what} does not exist in {broker}{there}; make it with `courier schema apply broker --broker "
            + $"'{broker}'{command}`, or in development set Courier:CreateMissing to true");
    }
}
