using System.CommandLine;
using GentleCourier.Engines;
using GentleCourier.Tables;
using GentleCourier.Watching;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier pause</c> and <c>courier resume</c>: of a queue, or of a store's relay.</summary>
internal static class PauseCommand
{
    private const int TooLong = 4;

    public static Command Create()
    {
        var command = new Command(
            "pause",
            """
            Has nothing of a queue begin any more, or with --outbox nothing leave an outbox, until it is resumed.

            What handlers have they finish; what workers hold and have not begun goes back, and no attempt is counted.
            Events go on arriving and wait. It survives restarts. Resume with: courier resume

            Examples:
              courier pause fares --why "card machine is down"
              courier pause fares --until 14:30
              courier pause --outbox --store harbour --for 30m
            """);
        var order = new OrderOptions("until it is resumed").AddTo(command);
        var target = new Target(command);
        command.SetAction((result, cancel) => target.ActAsync(
            result,
            queue => (orders, c) => orders.PauseAsync(queue, order.DurationOf(result), order.NoteOf(result), c),
            (relay, c) => relay.PauseAsync(order.DurationOf(result), order.NoteOf(result), c),
            isPause: true, order.DurationOf(result) is { } time ? DateTimeOffset.UtcNow + time : null, cancel));
        return command;
    }

    public static Command CreateResume()
    {
        var command = new Command(
            "resume",
            """
            Ends the pause of a queue, or with --outbox of an outbox's relay.

            Examples:
              courier resume fares
              courier resume --outbox --store harbour
            """);
        var target = new Target(command);
        command.SetAction((result, cancel) => target.ActAsync(
            result, queue => (orders, c) => orders.ResumeAsync(queue, c), (relay, c) => relay.ResumeAsync(c),
            isPause: false, null, cancel));
        return command;
    }

    private static string Said(bool isPause, DateTimeOffset? until) => !isPause ? "resumed"
        : until is null ? "paused until it is resumed" : $"paused until {Plain.Time(until)}";

    /// <summary>What is paused, or resumed.</summary>
    private sealed class Target
    {
        private readonly Argument<string?> queue = Completion.OfQueues(new Argument<string?>("QUEUE")
        {
            HelpName = "QUEUE", Arity = ArgumentArity.ZeroOrOne, Description = "The queue.",
        });
        private readonly Option<bool> outbox = new("--outbox")
        {
            Description = "The relay of a store instead: what is published waits in its outbox.",
        };
        private readonly Option<bool> json = Plain.JsonOption();
        private readonly Connections connections;

        public Target(Command command)
        {
            command.Arguments.Add(queue);
            command.Options.Add(outbox);
            command.Options.Add(json);
            connections = new Connections().AddTo(command);
        }

        public async Task<int> ActAsync(
            ParseResult result, Func<string, Func<IInstructions, CancellationToken, Task<long>>> order,
            Func<RelayPauseTable, CancellationToken, Task> orderRelay, bool isPause, DateTimeOffset? until,
            CancellationToken cancel)
        {
            var name = result.GetValue(queue);
            if (result.GetValue(outbox) == name is not null)
                throw new UsageException("name a queue, or say --outbox for the relay of a store");
            if (name is null) return await ActOnRelayAsync(result, orderRelay, isPause, until, cancel);
            await using var broker = connections.Broker(result);
            var given = await Places.OrderAsync(
                await Places.OfQueueAsync(broker, name, cancel), orders => order(name)(orders, cancel),
                worker => worker.Receivers.Any(r => r.Queue == name));
            var heard = await Heard.WaitAsync(given, cancel);
            var running = heard.Obey.SelectMany(w => w.Receivers).Where(r => r.Queue == name).Sum(r => r.Running);
            if (result.GetValue(json))
            {
                Plain.PrintJson(
                    new { queue = name, isPaused = isPause, until, running, workers = heard.ForScripts() });
            }
            else
            {
                AnsiConsole.WriteLine($"queue {name} is {Said(isPause, until)}");
                heard.Print(
                    isPause ? "begins nothing of it" : "begins again", isPause ? "begin nothing of it" : "begin again",
                    isPause ? "the broker hands them nothing either, and what they hold they go on with"
                        : "they begin again when the broker hands over");
                if (isPause && running > 0)
                    AnsiConsole.WriteLine($"{Plain.Count(running, "event")} had begun, and is finished");
            }
            return heard.Late.Count > 0 ? TooLong : 0;
        }

        private async Task<int> ActOnRelayAsync(
            ParseResult result, Func<RelayPauseTable, CancellationToken, Task> order, bool isPause,
            DateTimeOffset? until, CancellationToken cancel)
        {
            await using var store = connections.Store(result);
            await order(store.RelayPause, cancel);
            var figures = await store.ReadOutboxFiguresAsync(cancel);
            if (result.GetValue(json))
            {
                Plain.PrintJson(
                    new { store = store.DisplayName, isPaused = isPause, until, figures.Waiting, figures.Relay });
                return 0;
            }
            AnsiConsole.WriteLine(
                $"the relay of {store.DisplayName} is {Said(isPause, until)}; "
                + $"{StoreFindings.Count(figures.Waiting, figures.Precision)} waiting in the outbox");
            AnsiConsole.WriteLine(figures.Relay is { } leader ? $"{leader} leads, and obeys within two seconds"
                : "no relay leads at present; the next one that does will obey");
            return 0;
        }
    }
}
