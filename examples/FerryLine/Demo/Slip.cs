using GentleCourier;
using GentleCourier.Engines;
using Spectre.Console;

namespace FerryLine.Demo;

/// <summary>The commonest fault of all: a worker listens to another queue than the one that its events go to.</summary>
internal static class Slip
{
    private const string Service = "Notices", Queue = "notices", Misspelt = "notice";

    /// <summary>Starts Notices on a queue whose name lacks a letter.</summary>
    public static void Make(Services services, DemoFiles files, bool mayMakeQueues)
    {
        // What it does by mistake must not end up in the day's account.
        files.CreateStore(Misspelt);
        services.Start(Service, Service, Misspelt,
            ("Courier:Store", files.Store(Misspelt)), ("Courier:CreateMissing", $"{mayMakeQueues}"));
    }

    /// <summary>Shows what the tool has found, and has the worker receive from the right queue.</summary>
    public static async Task FindAndMendAsync(Services services, IBroker broker, CancellationToken cancel)
    {
        IReadOnlyList<Finding> found;
        do
        {
            await Task.Delay(200, cancel);
            found = Findings.Of(await broker.Reports!.ReadFiguresAsync(cancel));
        }
        while (!found.Any(f => f.What.Contains($"queue {Queue},", StringComparison.Ordinal)
            || f.What.Contains($"queue {Queue} ", StringComparison.Ordinal)));

        AnsiConsole.MarkupLine($"[bold]{Service}[/] was started on queue {Misspelt}; `courier status` says:");
        foreach (var finding in found.Where(f => f.IsWrong))
        {
            AnsiConsole.WriteLine($"  {finding.Code}: {finding.What}");
            AnsiConsole.WriteLine($"    next: {finding.Next}");
        }
        await services.StopAsync(Service);
        services.Start(Service);
        AnsiConsole.MarkupLine($"[bold]{Service}[/] is started on queue {Queue}");
    }
}
