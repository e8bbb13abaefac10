using System.CommandLine;
using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier drain</c>: workers finish what they have, and take no more.</summary>
internal static class DrainCommand
{
    private const int TooLong = 4;
    private static readonly TimeSpan LookEvery = TimeSpan.FromMilliseconds(300), UsualLimit = TimeSpan.FromMinutes(5);

    private static readonly Argument<string[]> Names = WorkerChoice.Completed(new Argument<string[]>("WORKER")
    {
        HelpName = "WORKER", Arity = ArgumentArity.ZeroOrMore, Description = "Workers, as `courier status` names them.",
    });
    private static readonly Option<string?> Host = new("--host")
    {
        HelpName = "HOST", Description = "All workers of a host instead.",
    };
    private static readonly Option<bool> End = new("--end") { Description = "Have them take events again." };
    private static readonly Option<TimeSpan?> Limit = new("--limit")
    {
        HelpName = "TIME",
        Description = "Wait no longer until they are idle, and exit with 4; such as 90s or 2h. [default: 5m]",
        CustomParser = result => Plain.ParseTime(result),
    };
    private static readonly Option<bool> Json = Plain.JsonOption();

    public static Command Create()
    {
        var command = new Command(
            "drain",
            """
            Has workers finish what they have and take no more, from any queue, and waits until they are idle.

            What they hold and have not begun goes back, for others. It ends with their process: one that is started in
            its place works as usual. Their relays and web requests go on.

            Examples:
              courier drain pier-7/4711 && kill 4711
              courier drain --host pier-7 --why "new disk"
              courier drain pier-7/4711 --end
            """);
        command.Arguments.Add(Names);
        foreach (var option in new Option[] { Host, End, Limit }) command.Options.Add(option);
        var order = new OrderOptions("").AddTo(command, ends: false);
        command.Options.Add(Json);
        var connections = new Connections().AddTo(command);
        command.SetAction((result, cancel) => RunAsync(connections, order, result, cancel));
        return command;
    }

    private static async Task<int> RunAsync(
        Connections connections, OrderOptions order, ParseResult result, CancellationToken cancel)
    {
        var (names, host, isEnd) = (result.GetValue(Names) ?? [], result.GetValue(Host), result.GetValue(End));
        if (names.Length == 0 == host is null) throw new UsageException("name workers, or a --host; not both");
        await using var broker = connections.Broker(result);
        var all = await Places.WorkersAsync(broker, cancel);
        var chosen = host is not null ? WorkerChoice.OfHost(all, host)
            : names.SelectMany(name => WorkerChoice.Named(all, name)).DistinctBy(w => w.Worker.Id).ToList();
        var note = order.NoteOf(result);
        var given = new List<Given>();
        foreach (var place in chosen.GroupBy(w => w.At))
        {
            string[] ids = [.. place.Select(w => w.Worker.Id)];
            given.AddRange(await Places.OrderAsync(
                [place.Key],
                orders => isEnd ? orders.EndDrainingAsync(ids, cancel) : orders.DrainAsync(ids, note, cancel),
                worker => ids.Contains(worker.Id)));
        }
        var heard = await Heard.WaitAsync(given, cancel);
        var isJson = result.GetValue(Json);
        if (!isJson)
        {
            heard.Print(
                isEnd ? "takes events again" : "takes no more", isEnd ? "take events again" : "take no more",
                isEnd ? "they never stopped" : "stop them instead: what they hold goes to others");
        }
        var left = isEnd ? [] : await IdleAsync(given, heard, result.GetValue(Limit) ?? UsualLimit, isJson, cancel);
        if (isJson)
        {
            Plain.PrintJson(new
            {
                isDrained = !isEnd, workers = heard.ForScripts(), busy = left.Select(w => new { w.Id, w.Worker }),
            });
        }
        return left.Count > 0 || heard.Late.Count > 0 ? TooLong : heard.Unaware.Count > 0 ? 1 : 0;
    }

    /// <summary>Waits until all that obey have nothing in hand, or are gone; those that are left.</summary>
    private static async Task<List<WorkerFigures>> IdleAsync(
        IReadOnlyList<Given> given, Heard heard, TimeSpan limit, bool isJson, CancellationToken cancel)
    {
        var awaited = heard.Obey.Select(w => w.Id).ToHashSet();
        for (var began = Stopwatch.GetTimestamp(); ;)
        {
            var busy = new List<WorkerFigures>();
            foreach (var place in given.Select(g => g.At).Distinct())
            {
                var figures = await Connections.ReportsOf(place).ReadFiguresAsync(cancel);
                foreach (var worker in figures.Workers ?? [])
                {
                    if (!awaited.Contains(worker.Id)) continue;
                    if (!worker.IsIdle) busy.Add(worker);
                    else if (awaited.Remove(worker.Id) && !isJson)
                        AnsiConsole.WriteLine($"{Plain.Line(worker.Worker)} is idle");
                }
            }
            if (busy.Count == 0) return busy;
            if (Stopwatch.GetElapsedTime(began) >= limit)
            {
                foreach (var worker in isJson ? [] : busy)
                    Plain.WriteHanging(
                        "note  ", $"worker {worker.Worker} still has "
                        + $"{Plain.Count(worker.Receivers.Sum(r => r.InHand), "event")} in hand", Plain.Note);
                return busy;
            }
            await Task.Delay(LookEvery, cancel);
        }
    }
}
