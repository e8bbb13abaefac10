using System.CommandLine;
using GentleCourier.Engines;

namespace GentleCourier.Cli;

/// <summary>The commands by which kept events come back: as they are, or repaired, from a file.</summary>
/// <param name="words">How they are called.</param>
/// <param name="open">Opens where they are.</param>
/// <param name="connect">Adds the options for that to a command.</param>
/// <param name="hasQueue">Whether each is of a queue, whose receiver may have handled another copy.</param>
internal sealed class ReturnCommands(
    KeptWords words, Func<Connections, ParseResult, KeptEvents> open, Func<Command, Connections> connect, bool hasQueue)
{
    private readonly Option<bool> thoughForgotten = new("--though-forgotten")
    {
        Description = "Also those that are older than what inboxes remember, which could act a second time.",
    };

    /// <summary>As they are.</summary>
    public Command Return(string description)
    {
        var command = new Command(words.Return, description);
        var filter = new KeptFilter(words, hasQueue, mustSay: true).AddTo(command);
        var (work, connections) = Options(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var kept = open(connections, result);
            var plan = new Plan(words, hasQueue, result.GetValue(thoughForgotten));
            await plan.MakeAsync(
                filter.SelectAsync(kept, result, cancel).Select(k => new KeptReturn(k)),
                Stores(connections, result), cancel);
            await CarryOutAsync(
                plan, work, result, kept,
                filter.SelectAsync(kept, result, cancel).Where(plan.Has).Select(k => new KeptReturn(k)), cancel);
        });
        return command;
    }

    /// <summary>From the lines of a file.</summary>
    public Command Import()
    {
        var command = new Command(
            "import",
            $"""
            Takes {words.Many} out of the lines of a file that was exported, and may have been repaired by hand: each
            leaves its place and its line's event goes on instead, in one step. Lines whose {words.One} has gone, or
            that cannot be read, are told of, and the others are taken.

            Example:
              courier {words.Command} import repair.jsonl --rehearse
            """);
        var file = new Argument<FileInfo>("FILE") { Description = "The lines." };
        command.Arguments.Add(file);
        var (work, connections) = Options(command);
        command.SetAction(async (result, cancel) =>
        {
            var lines = result.GetValue(file)!;
            if (!lines.Exists) throw new CourierException($"cannot read {lines}: there is no such file");
            await using var kept = open(connections, result);
            var plan = new Plan(words, hasQueue, result.GetValue(thoughForgotten));
            var reader = new LineReader(lines.FullName, words, kept);
            await plan.MakeAsync(reader.ReadAsync(cancel), Stores(connections, result), cancel);
            await reader.ReportAsync();
            await CarryOutAsync(
                plan, work, result, kept, reader.ReadAsync(cancel).Where(k => plan.Has(k.Kept)), cancel);
            return reader.Problems > 0 ? 1 : 0;
        });
        return command;
    }

    private (Work Work, Connections Connections) Options(Command command)
    {
        if (hasQueue) command.Options.Add(thoughForgotten);
        return (new Work().AddTo(command), connect(command));
    }

    private List<Named<IStorePort>> Stores(Connections connections, ParseResult result) =>
        hasQueue ? connections.FindStores(result) : [];

    private async Task CarryOutAsync(Plan plan, Work work, ParseResult result, KeptEvents kept,
        IAsyncEnumerable<KeptReturn> events, CancellationToken cancel)
    {
        var would = $"{words.Count(plan.Count)} would be {words.Returned}"
            + (plan.Repaired > 0 ? $", {plan.Repaired} of them repaired" : "");
        if (plan.Left is { } left) await Console.Error.WriteLineAsync(left);
        if (plan.Count == 0) await Console.Error.WriteLineAsync($"there are no {words.Many} to be {words.Returned}");
        if (!work.MayBegin(result, plan.Causes, would, [.. plan.Notes])) return;
        var (done, gone) = await Work.DoAsync(
            events, step => kept.ReturnAsync(step, cancel), words.Returned, plan.Count, cancel);
        work.Report(result, words, words.Returned, done, plan.Repaired, gone);
    }
}
