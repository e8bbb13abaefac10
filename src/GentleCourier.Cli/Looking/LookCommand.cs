using System.CommandLine;
using GentleCourier.Engines;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier look</c>: events where they are, without taking any.</summary>
internal static class LookCommand
{
    private const int Few = 3, Some = 20;

    private static readonly Argument<string?> Queue = Completion.OfQueues(new Argument<string?>("QUEUE")
    {
        HelpName = "QUEUE", Arity = ArgumentArity.ZeroOrOne,
        Description = "A queue; without one, a few events of each.",
    });
    private static readonly Option<bool> Outbox = new("--outbox")
    {
        Description = "The outboxes of the stores instead: what waits there, is held or refused, or is for later.",
    };
    private static readonly Option<int?> Limit = new("--limit")
    {
        HelpName = "N", Description = $"How many are shown, 1 to 100000. [default: {Some}, and {Few} of each queue]",
    };
    private static readonly Option<bool> Whole = new("--whole") { Description = "Show all of each, and its data." };
    private static readonly Option<bool> Json = new("--json")
    {
        Description = "Print JSON, a line for each event, for scripts.",
    };
    private static readonly LookChoice Choice = new();

    public static Command Create()
    {
        var command = new Command(
            "look",
            """
            Shows the events of a queue or an outbox, the next first, and takes none: their order and attempts stay.

            Events with an id, a key, a subject or a type are looked for one after the other, through as many as
            --within says. What moves meanwhile may be seen twice, or not.

            Examples:
              courier look fares
              courier look fares --event longsand-1/7
              courier look fares --key card-0417 --state later --within 1000000
              courier look --outbox --store harbour
            """);
        Limit.Validators.Add(Plain.WholeNumber(Limit.Name, 100_000));
        command.Arguments.Add(Queue);
        command.Options.Add(Outbox);
        Choice.AddTo(command);
        foreach (var option in new Option[] { Limit, Whole, Json }) command.Options.Add(option);
        var connections = new Connections().AddTo(command);
        command.SetAction((result, cancel) => RunAsync(connections, result, cancel));
        return command;
    }

    private static async Task RunAsync(Connections connections, ParseResult result, CancellationToken cancel)
    {
        if (!result.GetValue(Outbox))
        {
            await using var broker = connections.Broker(result);
            await ShowAsync(await QueuesAsync(broker, result.GetValue(Queue), cancel), result, cancel);
            return;
        }
        if (result.GetValue(Queue) is { } queue)
            throw new UsageException($"look into queue '{queue}' or, with --outbox, into outboxes; not both");
        var stores = connections.FindStores(result);
        if (stores.Count == 0) throw Connections.NotSaid("store");
        try
        {
            await ShowAsync([.. stores.Select(s => new OutboxSights(s))], result, cancel);
        }
        finally
        {
            foreach (var store in stores) await store.DisposeAsync();
        }
    }

    private static async Task<List<Sights>> QueuesAsync(IBroker broker, string? queue, CancellationToken cancel)
    {
        var reports = Connections.ReportsOf(broker);
        if (queue is not null) return [new QueueSights(broker, reports, queue)];
        var topology = await reports.ReadTopologyAsync(cancel);
        if (topology.Queues.Count == 0) throw new CourierException($"there is no queue in {broker.DisplayName}");
        return [.. topology.Queues.Select(name => new QueueSights(broker, reports, name))];
    }

    private static async Task ShowAsync(
        List<Sights> places, ParseResult result, CancellationToken cancel)
    {
        var (looked, shown) = (0L, 0);
        foreach (var place in places)
        {
            var found = await FindAsync(place, places.Count > 1 ? Few : Some, result, cancel);
            (looked, shown) = (looked + found.Looked, shown + found.Events.Count);
            // Who looks for one event need not be told of each place where it is not.
            if (found.Events.Count == 0 && place.NotShown is null && Choice.Id(result) is not null) continue;
            if (result.GetValue(Json)) PrintLines(place, found);
            else Print(place, found, result);
        }
        if (shown == 0 && Choice.Id(result) is { } id)
            throw new CourierException($"event '{id}' is not among the {Plain.Count(looked, "event")} that were looked "
                + "through; it is handled, elsewhere, or further behind (--within): `courier dead-letters list "
                + $"--event {id}` shows whether it was set aside");
    }

    /// <summary>What is shown of a place, after how many, and whether there may be more.</summary>
    private sealed record Found(IReadOnlyList<Seen> Events, long Looked, bool HasMore, bool IsAtItsEnd);

    private static async Task<Found> FindAsync(
        Sights place, int usual, ParseResult result, CancellationToken cancel)
    {
        var (limit, isChosen) = (result.GetValue(Limit) ?? usual, Choice.IsSaid(result));
        // One more than is shown tells whether there are more.
        var most = isChosen ? Choice.Within(result) : limit + 1;
        var (events, looked) = (new List<Seen>(), 0L);
        await foreach (var seen in place.ReadAsync(most, cancel))
        {
            looked++;
            if (isChosen && !Choice.Matches(seen, result)) continue;
            if (events.Count == limit) return new(events, looked, HasMore: true, IsAtItsEnd: false);
            events.Add(seen);
        }
        return new(events, looked, HasMore: false, IsAtItsEnd: looked < most);
    }

    private static void PrintLines(Sights place, Found found)
    {
        foreach (var seen in found.Events) Console.WriteLine(SeenText.Line(seen, place.Mark));
        // A script is not to take for nothing what cannot be shown.
        if (place.NotShown is { } hidden) Console.Error.WriteLine(Plain.Line($"courier: {hidden}"));
    }

    private static void Print(Sights place, Found found, ParseResult result)
    {
        var now = DateTimeOffset.UtcNow;
        var isChosen = Choice.IsSaid(result);
        if (found.Events.Count == 0 && place.NotShown is null)
        {
            AnsiConsole.WriteLine(isChosen ? $"{place.Name}: none such" : $"{place.Name}: no events");
        }
        else
        {
            AnsiConsole.Write(new Text(place.Name + Environment.NewLine, Plain.Heading));
            foreach (var seen in found.Events)
            {
                if (result.GetValue(Whole))
                {
                    SeenText.PrintWhole(seen, place.Name, now);
                    AnsiConsole.WriteLine();
                }
                else SeenText.PrintShort(seen, now);
            }
        }
        if (place.NotShown is { } hidden) Plain.WriteHanging("", hidden);
        if (found.HasMore) AnsiConsole.WriteLine($"(the next {found.Events.Count}; --limit N for more)");
        if (isChosen && !found.IsAtItsEnd && !found.HasMore)
            AnsiConsole.WriteLine(
                $"(looked through the next {Plain.Count(found.Looked, "event")}; --within N for more)");
    }
}
