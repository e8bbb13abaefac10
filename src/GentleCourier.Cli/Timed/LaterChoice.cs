using System.CommandLine;

namespace GentleCourier.Cli;

/// <summary>The options that say which of the events that wait until they are due.</summary>
internal sealed class LaterChoice(bool mustSay)
{
    private readonly Option<string?> id = Text("--id", "ID", "The event with this id.");
    private readonly Option<string?> key = Text("--key", "KEY", "Those with this partition key.");
    private readonly Option<string?> type = Text("--type", "TYPE", "Those of this type.");

    public void AddTo(Command command)
    {
        foreach (var option in new[] { id, key, type }) command.Options.Add(option);
    }

    public LaterFilter Of(ParseResult result)
    {
        var which = new LaterFilter
        {
            Id = result.GetValue(id), PartitionKey = result.GetValue(key), Type = result.GetValue(type),
        };
        return mustSay && which.IsAll ? throw new UsageException("which? Say --id, --key or --type") : which;
    }

    private static Option<string?> Text(string name, string help, string description) =>
        new(name) { HelpName = help, Description = description };
}
