using System.CommandLine;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>What to say of a command line that is wrong.</summary>
internal static class Mistakes
{
    /// <summary>The mistakes, each in a line.</summary>
    public static IReadOnlyList<string> Of(ParseResult parsed)
    {
        var command = parsed.CommandResult.Command;
        if (parsed.UnmatchedTokens is [var unknown, ..] && Nearest(command, unknown) is { } meant)
            return [$"there is no '{unknown}' here; did you mean {meant}?"];
        return [.. parsed.Errors.Select(error => error.Message)];
    }

    /// <summary>Where to read on.</summary>
    public static string Help(ParseResult parsed)
    {
        var names = new List<string>();
        for (var at = parsed.CommandResult; at is not null; at = at.Parent as System.CommandLine.Parsing.CommandResult)
            names.Insert(0, at.Command is RootCommand ? "courier" : at.Command.Name);
        return $"Try `{string.Join(' ', names)} --help`.";
    }

    private static string? Nearest(Command command, string unknown)
    {
        var known = unknown.StartsWith('-') ? command.Options.SelectMany(o => o.Aliases.Append(o.Name))
            : command.Subcommands.Select(c => c.Name);
        return known.Where(name => Similar.Are(name, unknown)).MinBy(name => Similar.Distance(name, unknown));
    }
}
