using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary>An order that has been written down somewhere, and the workers that it is for.</summary>
/// <param name="At">Where.</param>
/// <param name="Number">By which workers say that they know it.</param>
/// <param name="IsFor">Whether it is for a worker.</param>
internal sealed record Given(IBroker At, long Number, Func<WorkerFigures, bool> IsFor);

/// <summary>Which workers obey an order, by their own word in the register.</summary>
/// <param name="Obey">Those that do.</param>
/// <param name="Late">Those that have not said so in time.</param>
/// <param name="Unaware">Those whose program does not know of orders.</param>
internal sealed record Heard(
    IReadOnlyList<WorkerFigures> Obey, IReadOnlyList<WorkerFigures> Late, IReadOnlyList<WorkerFigures> Unaware)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5), LookEvery = TimeSpan.FromMilliseconds(200);

    /// <summary>Waits until all have said so that can, for a few seconds at the most.</summary>
    public static async Task<Heard> WaitAsync(IReadOnlyList<Given> given, CancellationToken cancel)
    {
        for (var began = Stopwatch.GetTimestamp(); ;)
        {
            var heard = await ReadAsync(given, cancel);
            if (heard.Late.Count == 0 || Stopwatch.GetElapsedTime(began) >= Patience) return heard;
            await Task.Delay(LookEvery, cancel);
        }
    }

    private static async Task<Heard> ReadAsync(IReadOnlyList<Given> given, CancellationToken cancel)
    {
        var workers = new List<(WorkerFigures Worker, long Number)>();
        foreach (var order in given)
        {
            var figures = await Connections.ReportsOf(order.At).ReadFiguresAsync(cancel);
            workers.AddRange((figures.Workers ?? []).Where(order.IsFor).Select(w => (w, order.Number)));
        }
        return new Heard(
            [.. workers.Where(w => w.Worker.Heard >= w.Number).Select(w => w.Worker)],
            [.. workers.Where(w => w.Worker.Heard < w.Number).Select(w => w.Worker)],
            [.. workers.Where(w => w.Worker.Heard is null).Select(w => w.Worker)]);
    }

    /// <summary>Says it to people.</summary>
    /// <param name="does">What one does that obeys.</param>
    /// <param name="do">What several do.</param>
    /// <param name="unaware">What becomes of those that do not know of orders.</param>
    public void Print(string does, string @do, string unaware)
    {
        if (Obey.Count + Late.Count + Unaware.Count == 0) AnsiConsole.WriteLine("no worker is there that it is for");
        if (Obey.Count > 0)
            Plain.WriteHanging(
                $"{Plain.Count(Obey.Count, "worker")} {(Obey.Count == 1 ? does : @do)}: ", Names(Obey));
        foreach (var worker in Late)
            Plain.WriteHanging(
                "note  ", $"worker {worker.Worker} has not said so yet; it was seen {Plain.Age(worker.Seen)} ago",
                Plain.Note);
        if (Unaware.Count > 0)
            Plain.WriteHanging(
                "note  ", $"{Plain.Count(Unaware.Count, "worker")} cannot say so, being of a version that knows of no "
                + $"orders: {Names(Unaware)}; {unaware}", Plain.Note);
    }

    /// <summary>For scripts.</summary>
    public object ForScripts() => new { obey = Ids(Obey), late = Ids(Late), unaware = Ids(Unaware) };

    private static IEnumerable<object> Ids(IEnumerable<WorkerFigures> workers) =>
        workers.Select(w => new { w.Id, w.Worker, w.Version, inHand = w.Receivers.Sum(r => r.InHand) });

    private static string Names(IEnumerable<WorkerFigures> workers) =>
        string.Join(", ", workers.Select(w => w.Worker));
}
