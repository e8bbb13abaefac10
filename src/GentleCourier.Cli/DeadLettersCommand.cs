using System.CommandLine;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using GentleCourier.Engines;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier dead-letters</c>: what was set aside, and why.</summary>
internal static class DeadLettersCommand
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true,
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    public static Command Create()
    {
        var command = new Command(
            "dead-letters",
            """
            Lists the events that were set aside, the newest first, or shows one whole.

            Examples:
              courier dead-letters --queue fares
              courier dead-letters show 17
              courier dead-letters --json | jq -r '.[].reason' | sort | uniq -c
            """);
        var queue = new Option<string?>("--queue") { HelpName = "NAME", Description = "Of this queue only." };
        var limit = new Option<int>("--limit")
        {
            HelpName = "N", Description = "How many at the most.", DefaultValueFactory = _ => 50,
        };
        limit.Validators.Add(r =>
        {
            if (r.Tokens.Count == 1 && (!int.TryParse(r.Tokens[0].Value, out var n) || n < 1))
                r.AddError("--limit must be a whole number from 1 on.");
        });
        var json = Plain.JsonOption();
        command.Options.Add(queue);
        command.Options.Add(limit);
        command.Options.Add(json);
        var connections = new Connections().AddTo(command, store: false);
        command.SetAction(async (result, cancel) =>
        {
            await using var broker = connections.Broker(result);
            var most = result.GetValue(limit);
            var letters = await Connections.ReportsOf(broker)
                .ReadDeadLettersAsync(result.GetValue(queue), most, cancel);
            if (result.GetValue(json)) Plain.PrintJson(letters.Select(ForScripts));
            else Print(letters, most,
                result.GetValue(queue) is { } only ? $"queue {only} of {broker.DisplayName}" : broker.DisplayName);
        });
        command.Subcommands.Add(CreateShow());
        return command;
    }

    private static Command CreateShow()
    {
        var command = new Command(
            "show", "Shows one dead letter whole: reason, exception, stack, times, and the event as it was published.");
        var letterId = new Argument<string>("LETTER") { Description = "Its id in the list." };
        var json = Plain.JsonOption();
        command.Arguments.Add(letterId);
        command.Options.Add(json);
        var connections = new Connections().AddTo(command, store: false);
        command.SetAction(async (result, cancel) =>
        {
            await using var broker = connections.Broker(result);
            var wanted = result.GetValue(letterId)!;
            var letter = await Connections.ReportsOf(broker).FindDeadLetterAsync(wanted, cancel)
                ?? throw new CourierException(
                    $"there is no dead letter {wanted} in {broker.DisplayName}; `courier dead-letters` lists them");
            if (result.GetValue(json)) Plain.PrintJson(ForScripts(letter));
            else Print(letter);
        });
        return command;
    }

    private static void Print(IReadOnlyList<DeadLetter> letters, int limit, string where)
    {
        if (letters.Count == 0)
        {
            AnsiConsole.WriteLine($"no dead letters in {where}");
            return;
        }
        // The reason is what people look for: it has a line of its own, however wide the terminal is.
        var ids = letters.Max(l => l.Id.Length);
        var queues = letters.Max(l => l.Queue.Length);
        foreach (var letter in letters)
        {
            var attempts = letter.Attempts == 1 ? "1 attempt " : $"{letter.Attempts} attempts";
            Console.WriteLine(
                $"{letter.Id.PadLeft(ids)}  {letter.Queue.PadRight(queues)}  "
                + $"{Plain.Time(letter.SetAside)}  {attempts,-11}  {Plain.Line(Identity(letter).Id)}");
            Console.WriteLine($"{"".PadLeft(ids)}  {Plain.Line(letter.Reason)}");
        }
        if (letters.Count == limit) AnsiConsole.WriteLine($"(the newest {limit}; --limit N for more)");
        AnsiConsole.WriteLine("courier dead-letters show LETTER prints one whole");
    }

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
        AnsiConsole.Write(grid);

        if (letter.Failure is not null)
        {
            Console.WriteLine("\nstack:");
            Console.WriteLine(Plain.Lines(letter.Failure.Stack));
        }
        Console.WriteLine("\nevent:");
        Console.WriteLine(Plain.Lines(PrettyEvent(letter.Json)));
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
            id, type, source,
            letter.Attempts,
            letter.Worker,
            letter.Arrived,
            letter.FirstAttempt,
            letter.SetAside,
            letter.Failure?.Exception,
            letter.Failure?.Message,
            letter.Failure?.Stack,
            // What is not JSON is given as it is, in base64.
            @event = json,
            eventBase64 = json is null ? Convert.ToBase64String(letter.Json.Span) : null,
        };
    }

    private static (string Id, string Type, string Source) Identity(DeadLetter letter)
    {
        try
        {
            var @event = Event.Read(letter.Json);
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

    private static string PrettyEvent(ReadOnlyMemory<byte> json) =>
        Parse(json) is { } element ? JsonSerializer.Serialize(element, Indented) : Encoding.UTF8.GetString(json.Span);
}
