using System.CommandLine;
using GentleCourier.Engines;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier status</c>: how full queues and outboxes are.</summary>
internal static class StatusCommand
{
    private const int HeldShown = 10, SomethingIsWrong = 3;
    // Shorter ones are everyday life.
    private static readonly TimeSpan WorthSaying = TimeSpan.FromSeconds(10);

    public static Command Create()
    {
        var command = new Command(
            "status",
            """
            Shows how many events wait in each queue and in each outbox, who receives, and what goes wrong.

            Examples:
              courier status --broker sqlite:broker.db
              courier status --broker sqlite:broker.db --store sqlite:harbour.db --store sqlite:fares.db
              courier status --check || echo "somebody has to look"
              courier status --json | jq '.queues[] | select(.deadLetters > 0)'
            """);
        var json = Plain.JsonOption();
        command.Options.Add(json);
        var check = new Option<bool>("--check")
        {
            Description =
                "Exit with 3 where a finding says that something is wrong, for health checks and deployments.",
        };
        command.Options.Add(check);
        var connections = new Connections().AddTo(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var broker = connections.FindBroker(result);
            var stores = connections.FindStores(result);
            if (broker is null && stores.Count == 0) throw Connections.NotSaid("broker");

            var queues = broker is null ? null : await ReadAsync(broker, cancel);
            var outboxes = new List<Outbox>();
            foreach (var store in stores)
            {
                await using (store)
                    outboxes.Add(
                        new Outbox(store.DisplayName, await store.ReadOutboxFiguresAsync(cancel),
                        await store.ReadHeldAsync(HeldShown, cancel)));
            }

            List<Finding> findings =
            [
                .. queues is null ? [] : Findings.Of(queues.Topology, queues.Figures, queues.Workers),
                .. outboxes.SelectMany(o => Findings.Of(o.Store, o.Figures)),
            ];
            if (result.GetValue(json)) PrintJson(queues, outboxes, findings);
            else Print(queues, outboxes, findings);
            return result.GetValue(check) && findings.Exists(f => f.IsWrong) ? SomethingIsWrong : 0;
        });
        return command;
    }

    private static async Task<Queues> ReadAsync(IBroker broker, CancellationToken cancel)
    {
        var reports = Connections.ReportsOf(broker);
        return new Queues(
            broker.DisplayName, await reports.ReadFiguresAsync(cancel), await reports.ReadTopologyAsync(cancel),
            broker.Register is { } register ? await register.ReadWorkersAsync(cancel) : null);
    }

    private sealed record Queues(string Broker, IReadOnlyList<QueueFigures> Figures, Topology Topology,
        IReadOnlyList<WorkerFigures>? Workers)
    {
        public IEnumerable<string> TypesOf(string queue) =>
            Topology.Routes.Where(r => r.Queue == queue).Select(r => r.Type);
    }

    private sealed record Outbox(string Store, OutboxFigures Figures, IReadOnlyList<HeldEvent> Held);

    private static void Print(Queues? queues, List<Outbox> outboxes, List<Finding> findings)
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
            AnsiConsole.WriteLine();
            Print(queues.Workers);
        }
        foreach (var outbox in outboxes)
        {
            if (queues is not null || outbox != outboxes[0]) AnsiConsole.WriteLine();
            Print(outbox);
        }
        AnsiConsole.WriteLine();
        Print(findings);
    }

    private static void Print(IReadOnlyList<WorkerFigures>? workers)
    {
        if (workers is not { Count: > 0 })
        {
            AnsiConsole.WriteLine(
                workers is null ? "workers unknown: this broker keeps no register" : "workers: none receives");
            return;
        }
        var table = Plain.Table(("worker", false), ("queue", false), ("prefetch", true), ("parallel", true),
            ("in hand", true), ("handled", true), ("failed", true), ("longest", true), ("seen", true));
        foreach (var worker in workers)
        {
            foreach (var r in worker.Receivers)
            {
                table.AddRow(
                    Plain.Cell(worker.Worker), Plain.Cell(r.Queue), Plain.Cell(r.Prefetch), Plain.Number(r.Parallel),
                    Plain.Number(r.InHand), Plain.Number(r.Handled), Plain.Number(r.Failed), Plain.Age(r.Longest),
                    Plain.Age(worker.Seen));
            }
        }
        AnsiConsole.Write(table);
    }

    private static void Print(List<Finding> findings)
    {
        if (findings.Count == 0) AnsiConsole.WriteLine("findings: none");
        foreach (var finding in findings.OrderByDescending(f => f.IsWrong))
        {
            AnsiConsole.WriteLine($"{(finding.IsWrong ? "wrong" : "note")} {finding.Code}: {Plain.Line(finding.What)}");
            AnsiConsole.WriteLine($"  next: {Plain.Line(finding.Next)}");
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

    private static void PrintJson(Queues? queues, List<Outbox> outboxes, List<Finding> findings) => Plain.PrintJson(new
    {
        broker = queues?.Broker,
        queues = queues?.Figures.Select(f => new
        {
            name = f.Queue, f.Ready, f.InHand, f.Scheduled, f.DeadLetters, oldestAgeSeconds = f.OldestAge?.TotalSeconds,
                types = queues.TypesOf(f.Queue),
        }),
        workers = queues?.Workers?.Select(w => new
        {
            w.Worker, w.Version, w.Since, seenSecondsAgo = w.Seen.TotalSeconds, receivers = w.Receivers.Select(r => new
            {
                r.Queue, r.Types, r.Prefetch, r.Parallel, r.InHand, r.Running, r.Handled, r.Failed,
                longestSeconds = r.Longest?.TotalSeconds, timeLimitSeconds = r.TimeLimit?.TotalSeconds, r.Brake,
                brakedForSeconds = r.BrakedFor?.TotalSeconds, r.Problem,
            }),
        }),
        findings,
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
