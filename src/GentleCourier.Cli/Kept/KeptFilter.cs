using System.CommandLine;
using System.Runtime.CompilerServices;

namespace GentleCourier.Cli;

/// <summary>The options that say which of the kept events are meant; all that are given must hold.</summary>
internal sealed class KeptFilter
{
    private readonly Argument<string[]> ids;
    private readonly Option<string?> queue = Completion.OfQueues(
        new Option<string?>("--queue") { HelpName = "NAME", Description = "Of this queue only." });
    private readonly Option<string?> type = new("--type")
    {
        HelpName = "TYPE", Description = "Of this wire type only.",
    };
    private readonly Option<string?> cause = new("--cause")
    {
        HelpName = "CAUSE", Description = "With this cause only, as the list by cause names it.",
    };
    private readonly Option<string?> @event = new("--event")
    {
        HelpName = "ID", Description = "Of the event with this id only.",
    };
    private readonly Option<TimeSpan?> olderThan = Age("--older-than", "Only what has been here for longer"),
        newerThan = Age("--newer-than", "Only what has been here for less");
    private readonly Option<bool> all = new("--all") { Description = "All of them." };
    private readonly KeptWords words;
    private readonly bool hasQueue, mustSay;
    private readonly List<Kept> named = [];

    // Ages are of one moment, however often it is asked: nothing grows too old between the plan and the deed.
    private readonly DateTimeOffset now = DateTimeOffset.UtcNow;

    /// <param name="words">How they are called.</param>
    /// <param name="hasQueue">Whether each is of a queue.</param>
    /// <param name="mustSay">Whether it has to be said, if only that all are meant.</param>
    public KeptFilter(KeptWords words, bool hasQueue, bool mustSay)
    {
        (this.words, this.hasQueue, this.mustSay) = (words, hasQueue, mustSay);
        ids = new Argument<string[]>(words.Id) { Description = "Ids, as listed.", Arity = ArgumentArity.ZeroOrMore };
    }

    public KeptFilter AddTo(Command command)
    {
        if (mustSay) command.Arguments.Add(ids);
        if (hasQueue) command.Options.Add(queue);
        foreach (var option in new Option[] { type, cause, @event, olderThan, newerThan }) command.Options.Add(option);
        if (mustSay) command.Options.Add(all);
        return this;
    }

    /// <summary>The events that are meant, the oldest first. Ids must be there.</summary>
    public async IAsyncEnumerable<Kept> SelectAsync(
        KeptEvents from, ParseResult result,
        [EnumeratorCancellation] CancellationToken cancel)
    {
        Check(result);
        if (mustSay && result.GetValue(ids) is { Length: > 0 } said)
        {
            // All are looked for before anything is done with the first; asked again, they are what they were.
            if (named.Count == 0)
                foreach (var id in said.Distinct(StringComparer.Ordinal)) named.Add(await FindAsync(from, id, cancel));
            foreach (var kept in named) yield return kept;
            yield break;
        }
        await foreach (var kept in from.ReadAsync(hasQueue ? result.GetValue(queue) : null, cancel))
            if (Matches(kept, result)) yield return kept;
    }

    public static async Task<Kept> FindAsync(KeptEvents from, string id, CancellationToken cancel) =>
        await from.FindAsync(id, cancel) ?? throw new CourierException(
            $"there is no {from.Words.One} {id} in {from.DisplayName}; `courier {from.Words.Command} list` lists them");

    private bool Matches(Kept kept, ParseResult result) =>
        (result.GetValue(type) is not { } wanted || kept.Event?.Type == wanted)
        && (result.GetValue(cause) is not { } of || kept.Cause.Id == of)
        && (result.GetValue(@event) is not { } id || kept.Event?.Id == id)
        && (result.GetValue(olderThan) is not { } older || now - kept.Since > older)
        && (result.GetValue(newerThan) is not { } newer || now - kept.Since < newer);

    private void Check(ParseResult result)
    {
        if (!mustSay) return;
        var options = new Option[] { queue, type, cause, @event, olderThan, newerThan }
            .Where(o => result.GetResult(o) is { Implicit: false }).ToList();
        var (isNamed, isAll) = (result.GetValue(ids) is { Length: > 0 }, result.GetValue(all));
        if ((isNamed ? 1 : 0) + (isAll ? 1 : 0) + (options.Count > 0 ? 1 : 0) is var said && said == 0)
            throw new UsageException($"which {words.Many}? Name their ids, say what they have in common "
                + "(--cause, --type, --older-than and others), or say --all");
        if (said > 1)
            throw new UsageException("name ids, or say what they have in common, or say --all, but only one of these");
    }

    private static Option<TimeSpan?> Age(string name, string description) => new(name)
    {
        HelpName = "TIME", Description = $"{description}; such as 90s, 10m, 2h or 3d.",
        CustomParser = result => Plain.ParseTime(result),
    };
}
