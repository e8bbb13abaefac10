using System.CommandLine;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Watching;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier dead-letters</c>: what was set aside, why, and the way back.</summary>
internal static class DeadLettersCommand
{
    public static Command Create()
    {
        var words = DeadLetters.Called;
        var command = new Command(
            words.Command,
            """
            Lists the events that were set aside by their cause, the most frequent first.

            Examples:
              courier dead-letters --queue fares
              courier dead-letters list --cause 3fa4c1d2
              courier dead-letters send-back --cause 3fa4c1d2 --rehearse
              courier dead-letters discard --queue notices --older-than 30d
            """);
        var kept = new KeptCommands(words, Open, c => new Connections().AddTo(c), hasQueue: true);
        var back = new ReturnCommands(words, Open, c => new Connections().AddTo(c), hasQueue: true);
        kept.ByCause(command);
        command.Subcommands.Add(kept.List(
            letters => letters.Select(l => ForScripts((DeadLetter)l.Origin)), PrintLine));
        command.Subcommands.Add(kept.Show(
            letter => ForScripts((DeadLetter)letter.Origin), letter => Print((DeadLetter)letter.Origin)));
        command.Subcommands.Add(back.Return(
            """
            Sends dead letters back, each to the end of its own queue and to no other; attempts begin anew. It asks
            before it sends several. What was handled already through another copy is said where the store of the
            service that receives is known.

            Examples:
              courier dead-letters send-back 17
              courier dead-letters send-back --cause 3fa4c1d2 --rehearse
              courier dead-letters send-back --all --yes
            """));
        command.Subcommands.Add(kept.Discard());
        command.Subcommands.Add(kept.Export());
        command.Subcommands.Add(back.Import());
        return command;
    }

    private static DeadLetters Open(Connections connections, ParseResult result) => new(connections.Broker(result));

    /// <summary>The reason is what people look for: it has a line of its own, however wide the terminal is.</summary>
    private static void PrintLine(Kept kept, int ids, int queues)
    {
        var letter = (DeadLetter)kept.Origin;
        var attempts = letter.Attempts == 1 ? "1 attempt " : $"{letter.Attempts} attempts";
        var before = letter.History.Count > 0 ? $"  sent back {Plain.Count(letter.History.Count, "time")} before" : "";
        Console.WriteLine(
            $"{letter.Id.PadLeft(ids)}  {letter.Queue.PadRight(queues)}  {Plain.Time(letter.SetAside)}  "
            + $"{attempts,-11}  {Plain.Line(NameOf(kept))}{before}");
        Console.WriteLine($"{"".PadLeft(ids)}  {Plain.Line(letter.Reason)}");
    }

    private static string NameOf(Kept kept) =>
        kept.Event is { } @event ? $"{@event.Type} {@event.Id}" : "(unreadable)";

    private static void Print(DeadLetter letter)
    {
        var (id, type, source) = Identity(letter);
        var grid = new Grid().AddColumn(new GridColumn().NoWrap()).AddColumn();
        void Row(string name, string value) => grid.AddRow($"[bold]{name}[/]", Markup.Escape(Plain.Line(value)));
        Row("dead letter", letter.Id);
        Row("queue", letter.Queue);
        Row("reason", letter.Reason);
        Row("event", $"{id}");
        Row("type", type);
        Row("source", source);
        Row("cause", FailureCause.Of(letter).Id);
        Row("attempts", $"{letter.Attempts}");
        Row("worker", letter.Worker);
        Row("arrived", Plain.Time(letter.Arrived));
        Row("first attempt", Plain.Time(letter.FirstAttempt));
        Row("set aside", Plain.Time(letter.SetAside));
        if (letter.Failure is { } failure)
        {
            Row("exception", failure.Exception);
            Row("message", failure.Message);
        }
        foreach (var before in letter.History)
        {
            Row("before", Plain.Before(before));
        }
        AnsiConsole.Write(grid);

        if (letter.Failure is not null)
        {
            Console.WriteLine("\nstack:");
            Console.WriteLine(Plain.Lines(letter.Failure.Stack));
        }
        Console.WriteLine("\nevent:");
        Console.WriteLine(Plain.Lines(Plain.Pretty(letter.Json)));
    }

    private static object ForScripts(DeadLetter letter)
    {
        var (id, type, source) = Identity(letter);
        var json = Parse(letter.Json);
        return new
        {
            letter = letter.Id,
            letter.Queue,
            letter.Reason,
            cause = FailureCause.Of(letter).Id,
            id, type, source,
            letter.Attempts,
            letter.Worker,
            letter.Arrived,
            letter.FirstAttempt,
            letter.SetAside,
            letter.Failure?.Exception,
            letter.Failure?.Message,
            letter.Failure?.Stack,
            letter.History,
            // What is not JSON is given as it is, in base64.
            @event = json,
            eventBase64 = json is null ? Convert.ToBase64String(letter.Json.Span) : null,
        };
    }

    private static (string Id, string Type, string Source) Identity(DeadLetter letter)
    {
        try
        {
            var @event = CourierEvent.Read(letter.Json);
            return (@event.Id, @event.Type, @event.Source);
        }
        catch (UnreadableEventException)
        {
            return ("(unreadable)", "(unreadable)", "(unreadable)");
        }
    }

    private static JsonElement? Parse(ReadOnlyMemory<byte> json)
    {
        try
        {
            using var document = JsonDocument.Parse(json);
            return document.RootElement.Clone();
        }
        catch (JsonException)
        {
            return null;
        }
    }
}
