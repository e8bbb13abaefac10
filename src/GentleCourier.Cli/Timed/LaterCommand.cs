using System.CommandLine;
using System.Text;
using GentleCourier.Engines;
using GentleCourier.Scheduling;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier later</c>: events that wait until they are due.</summary>
internal static class LaterCommand
{
    public static Command Create()
    {
        var command = new Command(
            "later",
            """
            Lists the events of a store that wait until they are due, the next first.

            Once one is due it leaves for the outbox, and can be moved or cancelled no more.

            Examples:
              courier later --store harbour
              courier later move --id reminder-0614 --to "2031-06-14 05:00" --store harbour
              courier later cancel --key 0614-Old-Light --rehearse
            """);
        var limit = new Option<int>("--limit")
        {
            HelpName = "N", Description = "How many at the most.", DefaultValueFactory = _ => 50,
        };
        limit.Validators.Add(r =>
        {
            if (r.Tokens.Count == 1 && (!int.TryParse(r.Tokens[0].Value, out var n) || n is < 1 or > 100_000))
                r.AddError("--limit must be a whole number, 1 to 100000.");
        });
        var (which, json) = (new LaterChoice(mustSay: false), Plain.JsonOption());
        which.AddTo(command);
        command.Options.Add(limit);
        command.Options.Add(json);
        var connections = new Connections().AddTo(command, broker: false);
        command.SetAction(async (result, cancel) =>
        {
            await using var store = connections.Store(result);
            var most = result.GetValue(limit);
            var some = await ReadAsync(store, which.Of(result), most + 1, cancel);
            var shown = some.Take(most).ToList();
            if (result.GetValue(json))
            {
                Plain.PrintJson(shown.Select(ForScripts));
                return;
            }
            if (shown.Count == 0) AnsiConsole.WriteLine($"nothing waits in {store.DisplayName} until it is due");
            else Print(shown, await store.LaterEvents.ReadTimeAsync(cancel));
            if (some.Count > most) AnsiConsole.WriteLine($"(the next {most}; --limit N for more)");
        });
        command.Subcommands.Add(Show());
        command.Subcommands.Add(Move());
        command.Subcommands.Add(Cancel());
        return command;
    }

    private static Command Show()
    {
        var command = new Command("show", "Shows one event whole.");
        var id = new Argument<string>("EVENT") { Description = "Its id in the list." };
        var json = Plain.JsonOption();
        command.Arguments.Add(id);
        command.Options.Add(json);
        var connections = new Connections().AddTo(command, broker: false);
        command.SetAction(async (result, cancel) =>
        {
            await using var store = connections.Store(result);
            var which = new LaterFilter { Id = result.GetRequiredValue(id) };
            var found = await store.LaterEvents.ReadAsync(which, 1, null, null, cancel) is [var one] ? one
                : throw None(which);
            if (result.GetValue(json))
            {
                Plain.PrintJson(ForScripts(found));
                return;
            }
            var grid = new Grid().AddColumn(new GridColumn().NoWrap()).AddColumn();
            void Row(string name, string value) => grid.AddRow($"[bold]{name}[/]", Plain.Cell(value));
            Row("event", found.Id);
            Row("type", found.Type);
            if (found.PartitionKey is { } key) Row("partition key", key);
            Row("due", $"{Plain.Time(found.Due)}, {In(found, await store.LaterEvents.ReadTimeAsync(cancel))}");
            Row("added", Plain.Time(found.Added));
            AnsiConsole.Write(grid);
            Console.WriteLine("\nevent:");
            Console.WriteLine(Plain.Lines(Plain.Pretty(found.Json)));
        });
        return command;
    }

    private static Command Move()
    {
        var command = new Command(
            "move",
            """
            Moves events to another time. It asks before it moves several.

            Examples:
              courier later move --id reminder-0614 --to 05:00 --store harbour
              courier later move --type skerryline.sailing-reminder --in 2h --store harbour
            """);
        var to = new Option<string?>("--to")
        {
            HelpName = "TIME", Description = "When: local date and time, or a time of today.",
        };
        var after = new Option<TimeSpan?>("--in")
        {
            HelpName = "TIME", Description = "So long from now on, such as 90s, 10m, 2h or 3d; 0s is now.",
            CustomParser = result => Plain.ParseTime(result),
        };
        command.Options.Add(to);
        command.Options.Add(after);
        Change(command, "moved", (events, which, result, cancel) => events.MoveAsync(
            which, DueOf(result.GetValue(to), result.GetValue(after)), cancellationToken: cancel),
            result => _ = DueOf(result.GetValue(to), result.GetValue(after)));
        return command;
    }

    private static Command Cancel()
    {
        var command = new Command(
            "cancel",
            """
            Cancels events: they are never published. It asks before it cancels several.

            Example:
              courier later cancel --id reminder-0614 --store harbour
            """);
        Change(command, "cancelled",
            (events, which, _, cancel) => events.CancelAsync(which, cancellationToken: cancel), static _ => { });
        return command;
    }

    private static void Change(Command command, string done,
        Func<ILaterEvents, LaterFilter, ParseResult, CancellationToken, Task<int>> change, Action<ParseResult> check)
    {
        var (which, work) = (new LaterChoice(mustSay: true), new Work());
        which.AddTo(command);
        work.AddTo(command);
        var connections = new Connections().AddTo(command, broker: false);
        command.SetAction(async (result, cancel) =>
        {
            check(result);
            await using var store = connections.Store(result);
            var filter = which.Of(result);
            const int Most = 1000;
            var found = await ReadAsync(store, filter, Most + 1, cancel);
            if (found.Count == 0) throw None(filter);
            var now = await store.LaterEvents.ReadTimeAsync(cancel);
            var count = found.Count > Most ? $"more than {Most} events"
                : Plain.Count(found.Count, "event");
            if (!work.MayBegin(
                result, found.Count, $"{count} would be {done}", [], () => Print([.. found.Take(20)], now),
                () => new { rehearsed = Math.Min(found.Count, Most), more = found.Count > Most }))
                return;
            var changed = await change(new LaterEvents(store.LaterEvents), filter, result, cancel);
            if (work.IsForScripts(result)) Plain.PrintJson(new { done = changed });
            else AnsiConsole.WriteLine(changed == 0 ? "too late: it has been due meanwhile"
                : $"{Plain.Number(changed)} {(changed == 1 ? "event" : "events")} {done}");
        });
    }

    private static DueTime DueOf(string? to, TimeSpan? after) => (to, after) switch
    {
        (not null, null) => DueTime.At(Plain.Moment(to, "--to", Plain.Today)),
        (null, { } delay) => DueTime.In(delay),
        _ => throw new UsageException("say --to TIME or --in TIME"),
    };

    private static async Task<List<LaterEvent>> ReadAsync(
        IStorePort store, LaterFilter which, int most, CancellationToken cancel)
    {
        var found = new List<LaterEvent>();
        while (found.Count < most && await store.LaterEvents.ReadAsync(
            which, Math.Min(500, most - found.Count), found.LastOrDefault(), null, cancel) is { Count: > 0 } some)
            found.AddRange(some);
        return found;
    }

    private static void Print(IReadOnlyList<LaterEvent> events, DateTimeOffset now)
    {
        // What is long has a line of its own, however narrow the terminal is.
        var widest = events.Max(e => In(e, now).Length);
        foreach (var e in events)
        {
            var head = $"{Plain.Time(e.Due)}  {In(e, now).PadLeft(widest)}  ";
            Plain.WriteHanging(head, $"{e.Type} {e.Id}{(e.PartitionKey is { } key ? $", key {key}" : "")}");
        }
    }

    private static string In(LaterEvent e, DateTimeOffset now) => Plain.Until(e.Due - now);

    private static CourierException None(LaterFilter which) => new(
        which.Id is { } id ? $"no event '{id}' waits there: it was due, and is too late, or there never was one"
            : "no such events wait there");

    private static object ForScripts(LaterEvent e) => new
    {
        e.Id, e.Type, e.PartitionKey, e.Due, e.Added, @event = Encoding.UTF8.GetString(e.Json.Span),
    };
}
