using System.CommandLine;
using GentleCourier;
using GentleCourier.Cli;
using Spectre.Console;

var root = new RootCommand(
    """
    Looks into the stores and brokers of Gentle Courier, and operates them by hand.

    Where they are is said by options, by the environment (COURIER_BROKER, COURIER_STORE) or by courier.json in the
    working directory; the former go before the latter:
      { "broker": "sqlite:broker.db", "stores": { "harbour": "sqlite:harbour.db" } }

    Exit codes: 0 done; 1 it could not be done; 2 the command line is wrong; 3 something is wrong (`doctor`,
    `status --check`); 4 it has taken too long (`status --wait-until`).
    Errors go to standard error; with --json, as JSON.
    """);
(string Name, Func<Command> Create)[] commands =
[
    ("status", StatusCommand.Create),
    ("watch", WatchCommand.Create),
    ("look", LookCommand.Create),
    ("record", RecordCommand.Create),
    ("plot", PlotCommand.Create),
    ("forecast", ForecastCommand.Create),
    ("doctor", DoctorCommand.Create),
    ("pause", PauseCommand.Create),
    ("resume", PauseCommand.CreateResume),
    ("steer", SteerCommand.Create),
    ("drain", DrainCommand.Create),
    ("dead-letters", DeadLettersCommand.Create),
    ("outbox", OutboxCommand.Create),
    ("later", LaterCommand.Create),
    ("schedules", SchedulesCommand.Create),
    ("publish", PublishCommand.Create),
    ("schema", SchemaCommand.Create),
    ("completion", CompletionCommand.Create),
];
// To make them all takes as long as most of them run: where one is named first, it is that one.
var named = Array.FindAll(commands, c => args is [var first, ..] && c.Name == first);
foreach (var (_, create) in named.Length > 0 ? named : commands) root.Subcommands.Add(create());

var utc = new Option<bool>("--utc") { Description = "Times in UTC, read and shown.", Recursive = true };
root.Options.Add(utc);

// Output that goes to a file or another program is not cut or wrapped to some terminal's width.
if (Console.IsOutputRedirected) AnsiConsole.Profile.Width = 10_000;

Help.Shorten(root);

var parsed = root.Parse(args);
if (parsed.Errors.Count > 0)
{
    await FailAsync(2, [.. Mistakes.Of(parsed)]);
    if (!args.Contains("--json")) await Console.Error.WriteLineAsync(Mistakes.Help(parsed));
    return 2;
}
if (parsed.GetValue(utc)) Plain.Zone = TimeZoneInfo.Utc;
try
{
    return await parsed.InvokeAsync(new InvocationConfiguration { EnableDefaultExceptionHandler = false });
}
catch (UsageException e)
{
    return await FailAsync(2, e.Message);
}
catch (Exception e) when (e is CourierException or IOException or UnauthorizedAccessException)
{
    return await FailAsync(1, e.Message);
}
catch (OperationCanceledException)
{
    return 130;
}

// To standard error, for people or, where they have asked for JSON, for scripts.
async Task<int> FailAsync(int exitCode, params string[] problems)
{
    foreach (var problem in problems.Select(Plain.Line))
    {
        await Console.Error.WriteLineAsync(
            args.Contains("--json") ? Plain.Json(new { error = problem, exitCode }) : $"courier: {problem}");
    }
    return exitCode;
}
