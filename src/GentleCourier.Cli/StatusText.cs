using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary>A status for people.</summary>
internal static class StatusText
{
    // Shorter ones are everyday life.
    private static readonly TimeSpan WorthSaying = TimeSpan.FromSeconds(10);
    // Narrower terminals are shown what matters most.
    private const int Wide = 110;
    private const int MostNamed = 3;

    public static void Print(CourierStatus status, IReadOnlyDictionary<string, IReadOnlyList<HeldEvent>> held)
    {
        if (status.Broker is { } broker)
        {
            Plain.WriteHanging($"broker {broker.Broker}", "", Plain.Heading);
            PrintQueues(status.Queues);
            PrintRoutes(broker.Queues);
            AnsiConsole.WriteLine();
            PrintWorkers(broker.Workers);
        }
        foreach (var store in status.Stores)
        {
            if (status.Broker is not null || store != status.Stores[0]) AnsiConsole.WriteLine();
            PrintOutbox(store, held.GetValueOrDefault(store.Store) ?? []);
        }
        AnsiConsole.WriteLine();
        PrintFindings(status.Findings);
    }

    private static void PrintQueues(IReadOnlyList<QueueStatus> queues)
    {
        if (queues.Count == 0)
        {
            AnsiConsole.WriteLine(
                "  no queue yet; a receiver makes one when it starts, or `courier schema apply broker --queue NAME`");
            return;
        }
        var isWide = AnsiConsole.Profile.Width >= Wide;
        var table = Plain.Table([("queue", false), ("ready", true), ("in hand", true), ("scheduled", true),
            ("dead letters", true), ("oldest", true), ("lag", true), .. isWide
                ? [("come/s", true), ("handled/s", true), ("outlook", false)] : Array.Empty<(string, bool)>()]);
        foreach (var q in queues)
        {
            var f = q.Figures;
            string[] cells = [f.Queue, Plain.Number(f.Ready), Plain.Number(f.InHand), Plain.Number(f.Scheduled),
                Plain.Number(f.DeadLetters), Plain.Age(f.OldestAge),
                f.Waiting > 0 && q.Lag is null ? "unknown" : Plain.Age(q.Lag), Plain.Rate(q.Rates?.Arrivals),
                Plain.Rate(q.Rates?.Handled), OutlookOf(q)];
            table.AddRow(cells[..(isWide ? 10 : 7)]);
        }
        AnsiConsole.Write(table);
        foreach (var q in isWide ? [] : queues)
            Plain.WriteHanging($"  {q.Figures.Queue}: ", OutlookOf(q) + (q.Rates is not { } rates ? ""
                : $" ({Plain.Rate(rates.Arrivals)} come, {Plain.Rate(rates.Handled)} are handled a second)"));
        if (queues.Select(q => q.Rates?.Over).Max() is { } over)
            AnsiConsole.WriteLine($"  rates are of the last {Plain.Age(over)}");
        AnsiConsole.WriteLine();
    }

    internal static string OutlookOf(QueueStatus queue)
    {
        if (queue.Figures.Pause is not null) return "paused by hand";
        if (queue.Figures.Waiting == 0) return "empty";
        if (queue.Receivers is { Count: 0 }) return "nobody receives";
        var forecast = queue.Forecast;
        return forecast.Outlook switch
        {
            Outlook.KeepsUp => "keeps up",
            Outlook.Drains => $"empty in about {Plain.Age(forecast.About)} ("
                + (forecast.Latest is { } latest ? $"{Plain.Age(forecast.Soonest)} to {Plain.Age(latest)})"
                    : $"at least {Plain.Age(forecast.Soonest)})"),
            Outlook.Unclear => "may not catch up",
            Outlook.Grows => "never catches up" + (queue.WorkersNeeded is { } needed && queue.Receivers is { } those
                && needed > those.Count ? $"; {needed:N0} workers would" : ""),
            _ => "unknown yet",
        };
    }

    private static void PrintRoutes(IReadOnlyList<QueueFigures> queues)
    {
        foreach (var type in queues.SelectMany(q => q.Types ?? [], (q, type) => (type, q.Queue))
            .GroupBy(r => r.type, r => r.Queue).OrderBy(g => g.Key, StringComparer.Ordinal))
            AnsiConsole.WriteLine($"  {Plain.Line(type.Key)} goes to {string.Join(", ", type)}");
        foreach (var queue in queues.Where(q => q.Types is { Count: 0 }))
            AnsiConsole.WriteLine($"  nothing goes to {queue.Queue}: it has no route");
    }

    private static void PrintWorkers(IReadOnlyList<WorkerFigures>? workers)
    {
        if (workers is not { Count: > 0 })
        {
            AnsiConsole.WriteLine(
                workers is null ? "workers unknown: this broker keeps no register" : "workers: none receives");
            return;
        }
        var isWide = AnsiConsole.Profile.Width >= Wide;
        var table = Plain.Table([("worker", false), ("queue", false), ("in hand", true), ("parallel", true),
            ("busy", true), ("handled", true), ("failed", true), ("seen", true), ("takes", true),
            .. isWide ? [("95 % within", true), ("waited", true), ("longest", true), ("prefetch", true)]
                : Array.Empty<(string, bool)>()]);
        foreach (var worker in workers)
        {
            foreach (var r in worker.Receivers)
            {
                string[] cells = [Plain.Cell(worker.Worker), Plain.Cell(r.Queue), Plain.Number(r.InHand),
                    Plain.Number(r.Parallel), Plain.Share(r.Utilisation), Plain.Number(r.Handled),
                    Plain.Number(r.Failed), Plain.Age(worker.Seen), Plain.Age(r.HandlingTimes?.Percentile(0.5)),
                    Plain.Age(r.HandlingTimes?.Percentile(0.95)), Plain.Age(r.WaitingTimes?.Percentile(0.5)),
                    Plain.Age(r.Longest), Plain.Cell(r.Prefetch)];
                table.AddRow(cells[..(isWide ? 13 : 9)]);
            }
        }
        AnsiConsole.Write(table);
        AnsiConsole.WriteLine("  takes, waited: no longer than that with half of the events of the last minutes");
    }

    private static void PrintFindings(IReadOnlyList<Finding> findings)
    {
        if (findings.Count == 0) AnsiConsole.WriteLine("findings: none");
        foreach (var finding in findings)
        {
            Plain.WriteHanging(finding.IsWrong ? "wrong " : "note  ", $"{finding.Code}: {finding.What}",
                finding.IsWrong ? Plain.Wrong : Plain.Note);
            Plain.WriteHanging("      next: ", finding.Next);
        }
    }

    private static void PrintOutbox(StoreFigures store, IReadOnlyList<HeldEvent> kept)
    {
        var f = store.Outbox;
        Plain.WriteHanging($"outbox of {store.Store}", "", Plain.Heading);
        AnsiConsole.WriteLine(
            $"  waiting {StoreFindings.Count(f.Waiting, f.Precision)}, of these held {Plain.Number(f.Held)}; refused "
            + $"{Plain.Number(f.Refused)}; oldest {Plain.Age(f.OldestAge)}");
        AnsiConsole.WriteLine(
            (f.Relay is null ? "  relay: none leads; start a service with this store" : $"  relay: {f.Relay} leads")
            + (f.Pause is null ? "" : ", and is paused by hand"));
        if (f.NextDueIn is { } next)
        {
            var more = f.Later > OutboxFigures.MostLater ? "more than " : "";
            AnsiConsole.WriteLine(
                $"  later: {more}{Plain.Number(Math.Min(f.Later, OutboxFigures.MostLater))}; the next, or a schedule, "
                + $"is due {Plain.Until(next)}");
        }
        if (f.OldestSnapshot > WorthSaying)
        {
            AnsiConsole.WriteLine(
                $"  oldest snapshot {Plain.Age(f.OldestSnapshot)} ({Plain.Line(f.SnapshotHolder!)}): until it ends, "
                + $"what is deleted stays; about {Plain.Number(f.DeadRows)} dead rows in the outbox");
        }
        if (f.LastError is not null) AnsiConsole.WriteLine($"  last error: {Plain.Line(f.LastError)}");
        foreach (var alike in kept.GroupBy(held => (IsHeld: held.Due is not null, held.LastError, held.Type)))
            Plain.WriteHanging("  ", $"{Names([.. alike])}: {Fate([.. alike])}: {alike.Key.LastError}");
        if (kept.Count < f.Held + f.Refused)
            AnsiConsole.WriteLine($"  (the first {kept.Count} that are held or refused; all: courier outbox)");
    }

    /// <summary>What is the matter with several is said once.</summary>
    private static string Names(IReadOnlyList<HeldEvent> alike)
    {
        var named = string.Join(", ", alike.Take(MostNamed).Select(held => held.Id));
        return $"{alike[0].Type} {named}{(alike.Count > MostNamed ? $" and {alike.Count - MostNamed} more" : "")}";
    }

    private static string Fate(IReadOnlyList<HeldEvent> alike) => alike.Min(held => held.Due) is { } due
        ? $"tried {Plain.Count(alike.Max(held => held.Attempts), "time")}, again at {Plain.Time(due)}" : "refused";
}
