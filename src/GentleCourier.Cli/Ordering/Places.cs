using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>
/// Where orders for the workers of a broker are written: there, or beside the stores of its receivers.
/// </summary>
internal static class Places
{
    /// <summary>Each that has the queue.</summary>
    /// <exception cref="CourierException">None has.</exception>
    public static async Task<List<IBroker>> OfQueueAsync(IBroker broker, string queue, CancellationToken cancel)
    {
        _ = Connections.ReportsOf(broker);
        var (places, known) = (new List<IBroker>(), new HashSet<string>());
        foreach (var place in broker.OrderedAt())
        {
            var queues = await QueuesAsync(place, cancel);
            known.UnionWith(queues);
            if (queues.Contains(queue)) places.Add(place);
        }
        return places.Count > 0 ? places
            : throw BrokerProblems.Missing(broker.DisplayName, [queue], [], [.. known.Order(StringComparer.Ordinal)]);
    }

    /// <summary>Orders the same at each, one after the other.</summary>
    public static async Task<List<Given>> OrderAsync(
        IReadOnlyList<IBroker> places, Func<IInstructions, Task<long>> order, Func<WorkerFigures, bool> isFor)
    {
        var given = new List<Given>();
        foreach (var place in places) given.Add(new Given(place, await order(Orders.Of(place)), isFor));
        return given;
    }

    /// <summary>The workers that are registered, and where.</summary>
    public static async Task<List<(IBroker At, WorkerFigures Worker)>> WorkersAsync(
        IBroker broker, CancellationToken cancel)
    {
        _ = Connections.ReportsOf(broker);
        var workers = new List<(IBroker, WorkerFigures)>();
        foreach (var place in broker.OrderedAt())
        {
            if ((await QueuesAsync(place, cancel)).Count == 0) continue;
            var figures = await Connections.ReportsOf(place).ReadFiguresAsync(cancel);
            workers.AddRange((figures.Workers ?? []).Select(w => (place, w)));
        }
        return workers;
    }

    /// <summary>A service that does not receive has no companion, and so no queue there.</summary>
    private static async Task<IReadOnlyCollection<string>> QueuesAsync(IBroker place, CancellationToken cancel)
    {
        try
        {
            return (await Connections.ReportsOf(place).ReadTopologyAsync(cancel)).Queues;
        }
        catch (CourierException e) when (e.IsAboutTables)
        {
            return [];
        }
    }
}
