using System.CommandLine;
using System.CommandLine.Help;
using System.CommandLine.Invocation;

namespace GentleCourier.Cli;

/// <summary>
/// The help of a command: a line for each of its own commands, whose examples stand in their own help.
/// </summary>
internal sealed class Help(HelpAction whole) : SynchronousCommandLineAction
{
    /// <summary>Has the commands of a program answer to <c>--help</c> in this way.</summary>
    public static void Shorten(RootCommand root)
    {
        foreach (var option in root.Options.OfType<HelpOption>())
            if (option.Action is HelpAction action) option.Action = new Help(action);
    }

    /// <summary>Who asks for help need not have said all that the command needs.</summary>
    public override bool ClearsParseErrors => true;

    public override int Invoke(ParseResult parseResult)
    {
        // The process ends after this.
        foreach (var command in parseResult.CommandResult.Command.Subcommands)
            command.Description = FirstSentence(command.Description ?? "");
        return whole.Invoke(parseResult);
    }

    private static string FirstSentence(string text)
    {
        var paragraph = text.Split("\n\n")[0].Replace('\n', ' ');
        var end = paragraph.IndexOf(". ", StringComparison.Ordinal);
        return end < 0 ? paragraph : paragraph[..(end + 1)];
    }
}
