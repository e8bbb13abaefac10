using System.CommandLine;
using FerryLine.Demo;
using Spectre.Console;

// Output that goes to a file or another program is not wrapped to some terminal's width.
if (Console.IsOutputRedirected) AnsiConsole.Profile.Width = 10_000;

var ledger = new Option<FileInfo?>("--ledger")
{
    HelpName = "FILE", Description = "Write the ledger to FILE, as JSON.",
};
var engine = new Option<string>("--engine")
{
    HelpName = "NAME", Recursive = true, DefaultValueFactory = _ => DemoFiles.Engines[0],
    Description =
        $"Where stores and broker are: {string.Join(" or ", DemoFiles.Engines)}, which starts a private server of its "
        + "own.",
};
engine.AcceptOnlyFromAmong(DemoFiles.Engines);
var keep = new Option<DirectoryInfo?>("--keep")
{
    HelpName = "DIR", Description = "Keep databases and logs in DIR, a new or empty folder.",
};
var kills = new Option<int>("--kill-fares")
{
    HelpName = "N",
    Description = "Kill the Fares worker N times during the day, without warning (0 to 20).",
};
kills.Validators.Add(result =>
{
    if (result.GetValueOrDefault<int>() is < 0 or > 20) result.AddError("--kill-fares must be 0 to 20.");
});
var misspelt = new Option<string?>("--misspelt")
{
    HelpName = "HOW",
    Description = "Start Notices on a wrong queue, and show what the tool says of it: made, where the worker may make "
        + "queues, or refused, where it may not. After the day it is started on the right one.",
};
misspelt.AcceptOnlyFromAmong("made", "refused");
var over = new Option<TimeSpan>("--over")
{
    HelpName = "MM:SS",
    Description = "Spread the day over so much time, for queues to be watched while they fill and drain; otherwise "
        + "it is over as soon as it can be.",
    CustomParser = result =>
    {
        if (TimeSpan.TryParseExact(result.Tokens[0].Value, @"m\:ss", null, out var time)) return time;
        result.AddError("--over must be minutes and seconds, such as 4:00.");
        return default;
    },
};
var seed = new Option<int>("--seed")
{
    HelpName = "S", DefaultValueFactory = _ => 614,
    Description = "Which taps the flaky gates repeat, and for `generate`, which day it is.",
};

var trace = new Option<bool>("--trace")
{
    Description =
        "Have the services trace what they do (OpenTelemetry, on their consoles), and draw the trace of a tap.",
};

var root = new RootCommand(
    """
    One day of the Skerry Line ferries: starts Harbour, Fares, DeckCount and Notices, each a process with its own
    database, replays the day's taps over a hundred connections at once, and proves at the end that nothing was lost and
    nothing acted twice. Exit code 0: the ledger balances and every figure agrees; 1: not so, or it could not run.
    """)
{
    engine, ledger, keep, kills, misspelt, over, seed, trace,
};
root.SetAction((result, cancel) => Play.RunAsync(
    new Play.Options(result.GetValue(engine)!, result.GetValue(ledger), result.GetValue(keep), result.GetValue(kills),
        result.GetValue(seed), result.GetValue(misspelt), result.GetValue(over), result.GetValue(trace)), cancel));

var folder = new Argument<DirectoryInfo>("DIR")
{
    Description = "Where to write piers.csv, sailings.csv and taps.csv.",
};
var generate = new Command("generate", "Makes up the files of a day.") { folder, seed };
generate.SetAction(result =>
{
    var target = result.GetRequiredValue(folder);
    target.Create();
    DayGenerator.Make(result.GetValue(seed)).Write(target.FullName);
});
root.Subcommands.Add(generate);

var events = new Option<int>("--events")
{
    HelpName = "N", DefaultValueFactory = _ => 100_000,
    Description = "About how many events are published (1,000 to 1,000,000).",
};
events.Validators.Add(result =>
{
    if (result.GetValueOrDefault<int>() is < 1_000 or > 1_000_000)
        result.AddError("--events must be 1,000 to 1,000,000.");
});
var chaosKills = new Option<int>("--kills")
{
    HelpName = "N", DefaultValueFactory = _ => 200,
    Description = "How many processes are killed, each kind in turn (0 to 10,000).",
};
chaosKills.Validators.Add(result =>
{
    if (result.GetValueOrDefault<int>() is < 0 or > 10_000) result.AddError("--kills must be 0 to 10,000.");
});
var serverKills = new Option<int>("--server-kills")
{
    HelpName = "N",
    Description =
    "With an engine that has a server: how often that is stopped at once, as a crash would, and started again (0 to "
    + "1,000).",
};
serverKills.Validators.Add(result =>
{
    if (result.GetValueOrDefault<int>() is < 0 or > 1_000) result.AddError("--server-kills must be 0 to 1,000.");
});
var orders = new Option<int>("--orders")
{
    HelpName = "N",
    Description =
        "How many orders are given by hand meanwhile: pauses of queues and relays, other limits, workers to be drained "
        + "(0 to 10,000).",
};
orders.Validators.Add(result =>
{
    if (result.GetValueOrDefault<int>() is < 0 or > 10_000) result.AddError("--orders must be 0 to 10,000.");
});
var nodes = new Option<int>("--nodes")
{
    HelpName = "N", DefaultValueFactory = _ => 1,
    Description =
        "With the engine amqp: of how many nodes the broker is made, each with a copy of every queue (1, 3 or 5). Then "
        + "--server-kills are of one node at a time.",
};
nodes.Validators.Add(result =>
{
    if (result.GetValueOrDefault<int>() is not (1 or 3 or 5)) result.AddError("--nodes must be 1, 3 or 5.");
});
var late = new Option<bool>("--late")
{
    Description =
        "Deploy queues, routes and workers only when a third of the events has been published; until then all are "
        + "held.",
};
var chaos = new Command(
    "chaos",
    """
    A far busier day, in which publishers, relays and workers, two of each, are killed with SIGKILL at random and
    started again. Exit code 0: nothing is missing and nothing acted twice, event by event; 1: not so, or it could not
    run.
    """)
{
    events, chaosKills, serverKills, orders, nodes, late, seed, ledger, keep,
};
chaos.Validators.Add(result =>
{
    if (result.GetValue(nodes) > 1 && result.GetValue(engine) != "amqp")
        result.AddError("--nodes is of a broker that has any: add --engine amqp.");
});
chaos.SetAction((result, cancel) => Chaos.RunAsync(
    new Chaos.Options(
        result.GetValue(engine)!, result.GetValue(nodes), result.GetValue(events), result.GetValue(chaosKills),
        result.GetValue(serverKills), result.GetValue(orders), result.GetValue(late), result.GetValue(seed),
        result.GetValue(ledger), result.GetValue(keep)), cancel));
root.Subcommands.Add(chaos);

return await root.Parse(args)
    .InvokeAsync(new InvocationConfiguration { ProcessTerminationTimeout = TimeSpan.FromSeconds(15) });
