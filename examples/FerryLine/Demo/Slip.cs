using GentleCourier;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Spectre.Console;

namespace FerryLine.Demo;

/// <summary>The commonest fault of all: a worker listens to another queue than the one that its events go to.</summary>
internal static class Slip
{
    private const string Service = "Notices", Name = "Notices-misspelt", Queue = "notices", Misspelt = "notice";

    /// <summary>Starts Notices on a queue whose name lacks a letter.</summary>
    public static async Task MakeAsync(
        Services services, DemoFiles files, bool mayMakeQueues, CancellationToken cancel)
    {
        // What it does by mistake must not end up in the day's account.
        files.CreateDatabase(Misspelt);
        await using (var store = files.OpenStore(Misspelt)) await store.PrepareAsync(create: true, cancel);
        services.Start(Service, Name, Misspelt,
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
        while (!found.Any(f => f.Code is "queue-misspelt" or "queue-unreceived"));

        AnsiConsole.MarkupLine($"[bold]{Service}[/] was started on queue {Misspelt}; `courier status` says:");
        foreach (var finding in found.Where(f => f.IsWrong))
        {
            AnsiConsole.WriteLine($"  {finding.Code}: {finding.What}");
            AnsiConsole.WriteLine($"    next: {finding.Next}");
        }
        await services.StopAsync(Name);
        services.Start(Service);
        AnsiConsole.MarkupLine($"[bold]{Service}[/] is started on queue {Queue}");
    }
}
