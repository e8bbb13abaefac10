using System.CommandLine;

namespace GentleCourier.Cli;

/// <summary>The options that say which events are looked for; all that are given must hold.</summary>
internal sealed class LookChoice
{
    private readonly Option<string?> id = Text("--event", "ID", "The event with this id.");
    private readonly Option<string?> key = Text("--key", "KEY", "Those with this partition key.");
    private readonly Option<string?> subject = Text("--subject", "SUBJECT", "Those with this subject.");
    private readonly Option<string?> type = Text("--type", "TYPE", "Those of this wire type.");
    private readonly Option<string?> state = new Option<string?>("--state")
    {
        HelpName = "STATE",
        Description = "Those in this state: ready, in-hand or later; in an outbox waiting, held, refused or later.",
    }.AcceptOnlyFromAmong([.. Seen.OfQueues, .. Seen.OfOutboxes.Except(Seen.OfQueues)]);
    private readonly Option<int> within = new("--within")
    {
        HelpName = "N", Description = "How many events are looked through for them, 1 to 100000000.",
        DefaultValueFactory = _ => 100_000,
    };

    public void AddTo(Command command)
    {
        within.Validators.Add(Plain.WholeNumber(within.Name, 100_000_000));
        foreach (var option in new Option[] { id, key, subject, type, state, within }) command.Options.Add(option);
    }

    /// <summary>Whether some are looked for, and not just the next.</summary>
    public bool IsSaid(ParseResult result) =>
        new Option[] { id, key, subject, type, state }.Any(o => result.GetResult(o) is { Implicit: false });

    public string? Id(ParseResult result) => result.GetValue(id);

    public int Within(ParseResult result) => result.GetValue(within);

    public bool Matches(Seen seen, ParseResult result) =>
        (result.GetValue(state) is not { } at || seen.State == at)
        && (result.GetValue(id) is not { } wanted || seen.Event?.Id == wanted)
        && (result.GetValue(key) is not { } of || seen.Event?.PartitionKey == of)
        && (result.GetValue(subject) is not { } about || seen.Event?.Subject == about)
        && (result.GetValue(type) is not { } kind || seen.Event?.Type == kind);

    private static Option<string?> Text(string name, string help, string description) =>
        new(name) { HelpName = help, Description = description };
}
