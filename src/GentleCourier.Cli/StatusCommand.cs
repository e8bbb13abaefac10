using System.CommandLine;
using GentleCourier.Engines;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier status</c>: how full queues and outboxes are.</summary>
internal static class StatusCommand
{
    private const int HeldShown = 10;
    // Shorter ones are everyday life.
    private static readonly TimeSpan WorthSaying = TimeSpan.FromSeconds(10);

    public static Command Create()
    {
        var command = new Command(
            "status",
            """
            Shows how many events wait in each queue and in each outbox, and what goes wrong.

            Examples:
              courier status --broker sqlite:broker.db
              courier status --broker sqlite:broker.db --store sqlite:harbour.db --store sqlite:fares.db
              courier status --json | jq '.queues[] | select(.deadLetters > 0)'
            """);
        var json = Plain.JsonOption();
        command.Options.Add(json);
        var connections = new Connections().AddTo(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var broker = connections.FindBroker(result);
            var stores = connections.FindStores(result);
            if (broker is null && stores.Count == 0) throw Connections.NotSaid("broker");

            var queues = broker is null ? null : new Queues(
                broker.DisplayName, await Connections.ReportsOf(broker).ReadFiguresAsync(cancel),
                await Connections.ReportsOf(broker).ReadTopologyAsync(cancel));
            var outboxes = new List<Outbox>();
            foreach (var store in stores)
            {
                await using (store)
                    outboxes.Add(
                        new Outbox(store.DisplayName, await store.ReadOutboxFiguresAsync(cancel),
                        await store.ReadHeldAsync(HeldShown, cancel)));
            }

            if (result.GetValue(json)) PrintJson(queues, outboxes);
            else Print(queues, outboxes);
        });
        return command;
    }

    private sealed record Queues(string Broker, IReadOnlyList<QueueFigures> Figures, Topology Topology)
    {
        public IEnumerable<string> TypesOf(string queue) =>
            Topology.Routes.Where(r => r.Queue == queue).Select(r => r.Type);
    }

    private sealed record Outbox(string Store, OutboxFigures Figures, IReadOnlyList<HeldEvent> Held);

    private static void Print(Queues? queues, List<Outbox> outboxes)
    {
        if (queues is not null)
        {
            AnsiConsole.WriteLine($"broker {queues.Broker}");
            var table = Plain.Table(("queue", false), ("ready", true), ("in hand", true), ("scheduled", true),
                ("dead letters", true), ("oldest", true));
            foreach (var f in queues.Figures)
            {
                table.AddRow(
                    f.Queue, Plain.Number(f.Ready), Plain.Number(f.InHand), Plain.Number(f.Scheduled),
                        Plain.Number(f.DeadLetters),
                    Plain.Age(f.OldestAge));
            }
            if (queues.Figures.Count == 0)
                AnsiConsole.WriteLine(
                "  no queue yet; a receiver makes one when it starts, or `courier schema apply broker --queue NAME`");
            else AnsiConsole.Write(table);
            AnsiConsole.WriteLine();
            foreach (var type in queues.Topology.Routes.GroupBy(r => r.Type, r => r.Queue))
                AnsiConsole.WriteLine($"  {Plain.Line(type.Key)} goes to {string.Join(", ", type)}");
            foreach (var queue in queues.Topology.Queues.Where(q => !queues.TypesOf(q).Any()))
                AnsiConsole.WriteLine($"  nothing goes to {queue}: it has no route");
        }
        foreach (var outbox in outboxes)
        {
            if (queues is not null || outbox != outboxes[0]) AnsiConsole.WriteLine();
            Print(outbox);
        }
    }

    private static void Print(Outbox outbox)
    {
        var f = outbox.Figures;
        AnsiConsole.WriteLine($"outbox of {outbox.Store}");
        AnsiConsole.WriteLine(
            $"  waiting {Plain.Number(f.Waiting)}, of these held {Plain.Number(f.Held)}; refused "
            + $"{Plain.Number(f.Refused)}; oldest {Plain.Age(f.OldestAge)}");
        AnsiConsole.WriteLine(
            f.Relay is null ? "  relay: none leads; start a service with this store" : $"  relay: {f.Relay} leads");
        if (f.OldestSnapshot > WorthSaying)
        {
            AnsiConsole.WriteLine(
                $"  oldest snapshot {Plain.Age(f.OldestSnapshot)} ({Plain.Line(f.SnapshotHolder!)}): until it ends, "
                + $"what is deleted stays; about {Plain.Number(f.DeadRows)} dead rows in the outbox");
        }
        if (f.LastError is not null) AnsiConsole.WriteLine($"  last error: {Plain.Line(f.LastError)}");
        foreach (var held in outbox.Held)
        {
            var fate = held.Due is { } due ? $"tried {held.Attempts} times, again at {Plain.Time(due)}" : "refused";
            AnsiConsole.WriteLine(
                $"  {Plain.Line(held.Type)} {Plain.Line(held.Id)}: {fate}: {Plain.Line(held.LastError)}");
        }
        if (outbox.Held.Count == HeldShown)
            AnsiConsole.WriteLine($"  (the first {HeldShown} that are held or refused)");
    }

    private static void PrintJson(Queues? queues, List<Outbox> outboxes) => Plain.PrintJson(new
    {
        broker = queues?.Broker,
        queues = queues?.Figures.Select(f => new
        {
            name = f.Queue, f.Ready, f.InHand, f.Scheduled, f.DeadLetters, oldestAgeSeconds = f.OldestAge?.TotalSeconds,
                types = queues.TypesOf(f.Queue),
        }),
        outboxes = outboxes.Select(o => new
        {
            store = o.Store, o.Figures.Waiting, o.Figures.Held, o.Figures.Refused,
                oldestAgeSeconds = o.Figures.OldestAge?.TotalSeconds,
            o.Figures.Relay, o.Figures.LastError, o.Figures.DeadRows,
            oldestSnapshotSeconds = o.Figures.OldestSnapshot?.TotalSeconds, o.Figures.SnapshotHolder,
            heldEvents = o.Held,
        }),
    });
}
