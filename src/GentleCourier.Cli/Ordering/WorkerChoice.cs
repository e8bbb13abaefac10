using System.CommandLine;
using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>Chooses workers of the register by what people call them.</summary>
internal static class WorkerChoice
{
    /// <summary>Has an option or an argument offer the workers of the register.</summary>
    public static TSymbol Completed<TSymbol>(TSymbol symbol) where TSymbol : Symbol =>
        Completion.OfBroker(symbol, async (broker, cancel) =>
            [.. (await Places.WorkersAsync(broker, cancel)).Select(w => w.Worker.Worker)]);

    /// <summary>Those of a name, <c>host/process</c>, or an id; there must be one.</summary>
    public static List<(IBroker At, WorkerFigures Worker)> Named(
        IReadOnlyList<(IBroker At, WorkerFigures Worker)> workers, string name) =>
        workers.Where(w => w.Worker.Worker == name || w.Worker.Id == name).ToList() is { Count: > 0 } found ? found
            : throw Unknown(workers, $"no worker '{name}'");

    /// <summary>Those of a host; there must be one.</summary>
    public static List<(IBroker At, WorkerFigures Worker)> OfHost(
        IReadOnlyList<(IBroker At, WorkerFigures Worker)> workers, string host) =>
        workers.Where(w => HostOf(w.Worker) == host).ToList() is { Count: > 0 } found ? found
            : throw Unknown(workers, $"no worker on host '{host}'");

    private static string HostOf(WorkerFigures worker) =>
        worker.Worker.LastIndexOf('/') is var cut and > 0 ? worker.Worker[..cut] : worker.Worker;

    private static CourierException Unknown(
        IReadOnlyList<(IBroker At, WorkerFigures Worker)> workers, string problem) => new(
        $"{problem} is in the register; there {(workers.Count == 0 ? "is none at all"
            : $"are {string.Join(", ", workers.Select(w => w.Worker.Worker).Order(StringComparer.Ordinal))}")}");
}
