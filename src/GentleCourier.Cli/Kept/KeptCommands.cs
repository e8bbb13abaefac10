using System.CommandLine;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary>
/// The commands for events that were kept aside, the same for the dead letters of a broker and for what stayed in an
/// outbox: by cause, listed, and back, away, or out to a file and in again.
/// </summary>
/// <param name="words">How they are called.</param>
/// <param name="open">Opens where they are.</param>
/// <param name="connect">Adds the options for that to a command.</param>
/// <param name="hasQueue">Whether each is of a queue.</param>
internal sealed class KeptCommands(
    KeptWords words, Func<Connections, ParseResult, KeptEvents> open, Func<Command, Connections> connect, bool hasQueue)
{
    /// <summary>Has a command print them by cause.</summary>
    public void ByCause(Command command)
    {
        var filter = new KeptFilter(words, hasQueue, mustSay: false).AddTo(command);
        var json = Plain.JsonOption();
        command.Options.Add(json);
        var connections = connect(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var kept = open(connections, result);
            var causes = new CauseList();
            await foreach (var one in filter.SelectAsync(kept, result, cancel)) causes.Add(one);
            if (result.GetValue(json))
            {
                Plain.PrintJson(causes.ForScripts());
                return;
            }
            if (await kept.BesidesAsync(cancel) is { } besides) AnsiConsole.WriteLine(besides);
            if (causes.Count == 0)
            {
                AnsiConsole.WriteLine($"no {words.Kind} in {kept.DisplayName}");
                return;
            }
            AnsiConsole.WriteLine($"{words.Count(causes.Count)} in {kept.DisplayName}, by cause");
            causes.Print();
            AnsiConsole.WriteLine($"next: courier {words.Command} list --cause CAUSE; show {words.Id}; "
                + $"{words.Return} --cause CAUSE --rehearse");
        });
    }

    /// <summary><c>list</c>: each in two lines, the newest last.</summary>
    public Command List(Func<IEnumerable<Kept>, IEnumerable<object>> forScripts, Action<Kept, int, int> print)
    {
        var command = new Command("list", $"Lists {words.Many}, the newest last, with why each is here.");
        var filter = new KeptFilter(words, hasQueue, mustSay: false).AddTo(command);
        var limit = new Option<int>("--limit")
        {
            HelpName = "N", Description = "How many at the most, of the newest.", DefaultValueFactory = _ => 50,
        };
        limit.Validators.Add(r =>
        {
            if (r.Tokens.Count == 1 && (!int.TryParse(r.Tokens[0].Value, out var n) || n < 1))
                r.AddError("--limit must be a whole number from 1 on.");
        });
        var json = Plain.JsonOption();
        command.Options.Add(limit);
        command.Options.Add(json);
        var connections = connect(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var kept = open(connections, result);
            var (most, newest) = (result.GetValue(limit), new Queue<Kept>());
            var all = 0L;
            await foreach (var one in filter.SelectAsync(kept, result, cancel))
            {
                all++;
                newest.Enqueue(one);
                if (newest.Count > most) newest.Dequeue();
            }
            if (result.GetValue(json))
            {
                Plain.PrintJson(forScripts(newest));
                return;
            }
            if (newest.Count == 0) AnsiConsole.WriteLine($"no {words.Kind} in {kept.DisplayName}");
            if (all > most) AnsiConsole.WriteLine($"(the newest {most} of {Plain.Number(all)}; --limit N for more)");
            foreach (var one in newest) print(one, newest.Max(k => k.Id.Length), newest.Max(k => k.Place.Length));
            if (newest.Count > 0) AnsiConsole.WriteLine($"courier {words.Command} show {words.Id} prints one whole");
        });
        return command;
    }

    /// <summary><c>show</c>: one, whole.</summary>
    public Command Show(Func<Kept, object> forScripts, Action<Kept> print)
    {
        var command = new Command("show", $"Shows one {words.One} whole.");
        var id = new Argument<string>(words.Id) { Description = "Its id in the list." };
        var json = Plain.JsonOption();
        command.Arguments.Add(id);
        command.Options.Add(json);
        var connections = connect(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var kept = open(connections, result);
            var found = await KeptFilter.FindAsync(kept, result.GetValue(id)!, cancel);
            if (result.GetValue(json)) Plain.PrintJson(forScripts(found));
            else print(found);
        });
        return command;
    }

    /// <summary><c>discard</c>: removes them for good.</summary>
    public Command Discard()
    {
        var command = new Command("discard", $"Removes {words.Many} for good. It asks before it removes several.");
        var filter = new KeptFilter(words, hasQueue, mustSay: true).AddTo(command);
        var work = new Work().AddTo(command);
        var connections = connect(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var kept = open(connections, result);
            var (causes, chosen) = (new CauseList(), new HashSet<string>(StringComparer.Ordinal));
            await foreach (var one in filter.SelectAsync(kept, result, cancel))
            {
                causes.Add(one);
                chosen.Add(one.Id);
            }
            if (causes.Count == 0) await Console.Error.WriteLineAsync($"there are no such {words.Many}");
            if (!work.MayBegin(result, causes, $"{words.Count(causes.Count)} would be discarded for good", [])) return;
            var (done, gone) = await Work.DoAsync(
                filter.SelectAsync(kept, result, cancel).Where(k => chosen.Contains(k.Id))
                    .Select(k => new KeptReturn(k)),
                step => kept.DiscardAsync([.. step.Select(s => s.Kept)], cancel), "discarded", causes.Count, cancel);
            work.Report(result, words, "discarded", done, repaired: 0, gone);
        });
        return command;
    }

    /// <summary><c>export</c>: a line each, for another program or a person.</summary>
    public Command Export()
    {
        var command = new Command(
            "export",
            $"""
            Writes {words.Many} as lines of JSON, each an 'event' in CloudEvents' format beside what says where it
            belongs. They stay where they are. Repair events by hand, leave out what is not to come back, and import
            them.

            Example:
              courier {words.Command} export --to repair.jsonl
            """);
        var filter = new KeptFilter(words, hasQueue, mustSay: false).AddTo(command);
        var to = new Option<FileInfo?>("--to")
        {
            HelpName = "FILE", Description = "A file that is not there yet, instead of standard output.",
        };
        command.Options.Add(to);
        var connections = connect(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var kept = open(connections, result);
            var file = result.GetValue(to);
            if (file is { Exists: true }) throw new CourierException($"{file} is there already; name another file");
            var count = 0L;
            await using (var output = file?.Create() ?? Console.OpenStandardOutput())
            {
                await foreach (var one in filter.SelectAsync(kept, result, cancel))
                {
                    await output.WriteAsync(EventLines.Write(one, words), cancel);
                    await output.WriteAsync("\n"u8.ToArray(), cancel);
                    count++;
                }
            }
            if (file is not null)
                Console.WriteLine($"{words.Count(count)} written to {file}; they stay where they are");
        });
        return command;
    }
}
