using System.CommandLine;
using System.Text;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier outbox</c>: what stayed in an outbox, why, and the way out.</summary>
internal static class OutboxCommand
{
    public static Command Create()
    {
        var words = OutboxEvents.Called;
        var command = new Command(
            words.Command,
            """
            Lists the events that stayed in a store's outbox by their cause.

            These are held, and are tried again by themselves, or the broker has refused them for good.

            Examples:
              courier outbox --store harbour
              courier outbox try-again --all --store harbour
              courier outbox discard --type skerryline.sailing-cancelled --rehearse
            """);
        var kept = new KeptCommands(words, Open, Connect, hasQueue: false);
        var back = new ReturnCommands(words, Open, Connect, hasQueue: false);
        kept.ByCause(command);
        command.Subcommands.Add(kept.List(events => events.Select(e => ForScripts((HeldEvent)e.Origin)), PrintLine));
        command.Subcommands.Add(kept.Show(e => ForScripts((HeldEvent)e.Origin), e => Print((HeldEvent)e.Origin)));
        command.Subcommands.Add(back.Return(
            """
            Has events tried again at once: one that is held with those of its partition key behind it; one that was
            refused as if it had just been added. It asks before several.

            Example:
              courier outbox try-again --cause 3fa4c1d2 --store harbour
            """));
        command.Subcommands.Add(kept.Discard());
        command.Subcommands.Add(kept.Export());
        command.Subcommands.Add(back.Import());
        command.Subcommands.Add(AcceptBroker());
        command.Subcommands.Add(SetClock());
        return command;
    }

    private static Command AcceptBroker()
    {
        var command = new Command(
            "accept-broker",
            """
            Has the relay go on with a broker that is not as it left it: one that was made anew, restored from a
            backup, or moved to another place. What it had confirmed and is missing there has to be published again by
            the service itself.

            With --new-identity the store is from now on another than the one that it is a copy of: for a database that
            was restored or cloned beside the original, where both go on.

            Examples:
              courier outbox accept-broker --store harbour
              courier outbox accept-broker --store harbour-trial --new-identity
            """);
        var connections = Connect(command);
        var isNew = new Option<bool>("--new-identity")
        {
            Description = "The store is a copy, and goes on beside the original",
        };
        command.Options.Add(isNew);
        command.SetAction(async (result, cancel) =>
        {
            await using var store = connections.Store(result);
            await store.AcceptBrokerAsync(result.GetValue(isNew), cancel);
            Console.WriteLine($"the relay of {store.DisplayName} goes on with the broker that is there");
            if (result.GetValue(isNew)) Console.WriteLine("and as another store than the one that it was copied from");
        });
        return command;
    }

    private static Command SetClock()
    {
        var command = new Command(
            "set-clock",
            """
            Says what time it is, where the clocks of a store's relays differ: by that schedules, and events for a time,
            leave. It counts twice beside the clocks of the relays, one each, until more than half of all say something
            else. Schedules that wait for a time of a clock that was ahead wait for the next one by their rule; delays,
            leases and retention go by no clock, and are left alone.

            For a store in a file; one on a server goes by the server's clock.

            Examples:
              courier outbox set-clock --store harbour
              courier outbox set-clock --to "2031-06-14 14:30" --store harbour
            """);
        var connections = Connect(command);
        var to = new Option<string?>("--to")
        {
            HelpName = "TIME",
            Description = "What time it is: local date and time, or a time of today; by default what this host's says",
        };
        command.Options.Add(to);
        command.SetAction(async (result, cancel) =>
        {
            var said = result.GetValue(to) is { } text ? Plain.Moment(text, "--to", Plain.Today)
                : DateTimeOffset.UtcNow;
            if (said < DateTimeOffset.UnixEpoch) throw new UsageException("--to is before 1970");
            await using var store = connections.Store(result);
            var before = (await store.ReadOutboxFiguresAsync(cancel)).Clock?.Time;
            await store.Later.SetClockAsync(said, cancel);
            var by = said - (before ?? said);
            var how = by.Duration() < TimeSpan.FromSeconds(1) ? "as it was"
                : $"{(by > TimeSpan.Zero ? "on" : "back")} by {Plain.Age(by.Duration())}";
            Console.WriteLine($"{store.DisplayName} goes by {Plain.Time(said)} from now on, {how}");
        });
        return command;
    }

    private static Connections Connect(Command command) => new Connections().AddTo(command, broker: false);

    private static OutboxEvents Open(Connections connections, ParseResult result) => new(connections.Store(result));

    private static void PrintLine(Kept kept, int ids, int states)
    {
        var held = (HeldEvent)kept.Origin;
        Console.WriteLine(
            $"{kept.Id.PadLeft(ids)}  {kept.Place.PadRight(states)}  added {Plain.Time(kept.Since)}  tried "
            + $"{kept.Attempts,-4} {Plain.Line(held.Type)} {Plain.Line(held.Id)}");
        Console.WriteLine($"{"".PadLeft(ids)}  {Plain.Line(kept.Reason)}");
    }

    private static void Print(HeldEvent held)
    {
        var grid = new Grid().AddColumn(new GridColumn().NoWrap()).AddColumn();
        void Row(string name, string value) => grid.AddRow($"[bold]{name}[/]", Markup.Escape(Plain.Line(value)));
        Row("row", Plain.Id(held.Row));
        Row("event", held.Id);
        Row("type", held.Type);
        if (held.PartitionKey is { } key) Row("partition key", key);
        Row("added", Plain.Time(held.Added));
        Row("tried", $"{held.Attempts} times");
        Row("again at", held.Due is { } due ? Plain.Time(due) : "never: it is refused");
        Row("last error", held.LastError);
        AnsiConsole.Write(grid);
        Console.WriteLine("\nevent:");
        Console.WriteLine(Plain.Lines(Plain.Pretty(held.Json)));
    }

    private static object ForScripts(HeldEvent held) => new
    {
        row = held.Row, held.Id, held.Type, held.PartitionKey, held.Attempts, held.LastError, held.Due, held.Added,
        @event = Encoding.UTF8.GetString(held.Json.Span),
    };
}
