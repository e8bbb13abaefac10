using System.CommandLine;
using GentleCourier;
using GentleCourier.Cli;
using Spectre.Console;

var root = new RootCommand(
    """
    Looks into the stores and brokers of Gentle Courier, and operates them by hand.

    Where they are is said by options, by the environment (COURIER_BROKER, COURIER_STORE) or by courier.json in the
    working directory: { "broker": "sqlite:broker.db", "store": "sqlite:harbour.db" }; the former go before the latter.

    Exit codes: 0 done; 1 it could not be done; 2 the command line is wrong; 3 `status --check` has found something.
    """)
{
    StatusCommand.Create(),
    DeadLettersCommand.Create(),
    PublishCommand.Create(),
    SchemaCommand.Create(),
};

// Output that goes to a file or another program is not cut or wrapped to some terminal's width.
if (Console.IsOutputRedirected) AnsiConsole.Profile.Width = 10_000;

var parsed = root.Parse(args);
if (parsed.Errors.Count > 0)
{
    foreach (var error in parsed.Errors) await Console.Error.WriteLineAsync($"courier: {Plain.Line(error.Message)}");
    await Console.Error.WriteLineAsync(
        $"Try `courier {string.Join(' ', args.TakeWhile(a => !a.StartsWith('-')).Take(1).Append("--help"))}`.");
    return 2;
}
try
{
    return await parsed.InvokeAsync(new InvocationConfiguration { EnableDefaultExceptionHandler = false });
}
catch (UsageException e)
{
    await Console.Error.WriteLineAsync($"courier: {Plain.Line(e.Message)}");
    return 2;
}
catch (Exception e) when (e is CourierException or IOException or UnauthorizedAccessException)
{
    await Console.Error.WriteLineAsync($"courier: {Plain.Line(e.Message)}");
    return 1;
}
catch (OperationCanceledException)
{
    return 130;
}
