using GentleCourier.ByHand;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>
/// One queue, looked at closer: its depth, who receives, what is in it, and what was set aside. Pure.
/// </summary>
internal static class QueuePage
{
    private const int CurveRows = 6, CausesShown = 6;

    public static void Add(Page page, View view, QueueStatus queue, bool isUnicode)
    {
        var f = queue.Figures;
        page.Head($"queue {f.Queue}", StatusText.OutlookOf(queue));
        page.Hanging("  ", $"{Plain.Number(f.Ready)} ready, {Plain.Number(f.InHand)} in hand, "
            + $"{Plain.Number(f.Scheduled)} later, {Plain.Number(f.DeadLetters)} dead letters; oldest "
            + $"{Plain.Age(f.OldestAge)}, lag {Screen.LagOf(queue)}", 2);
        if (queue.Rates is { } rates)
            page.Hanging("  ", $"{Plain.Rate(rates.Arrivals)} come, {Plain.Rate(rates.Handled)} are handled, "
                + $"{Plain.Rate(rates.Failed)} fail a second (of the last {Plain.Age(rates.Over)})", 2);
        AddCurve(page, view.CurveOf(f, Math.Max(20, page.Width - 12)), view.Past, isUnicode);
        // Of the broker's alone: a store may have a queue's name.
        foreach (var finding in Findings.Of(view.Status!.Broker!).Where(x => IsAbout(x, f.Queue)))
            page.Hanging(finding.IsWrong ? "wrong " : "note  ", $"{finding.What}; next: {finding.Next}", 4,
                finding.IsWrong ? "bold" : null);
        AddWorkers(page, view.Status.Broker!.Workers, f.Queue);
        if (view.Inside is not { } inside || inside.Queue != f.Queue) return;
        AddOldest(page, inside, view.LookedAt);
        AddLetters(page, inside);
    }

    private static bool IsAbout(Finding finding, string queue) => finding.Subject == queue
        || finding.Subject.EndsWith($" on {queue}", StringComparison.Ordinal);

    private static void AddCurve(Page page, double?[] values, TimeSpan past, bool isUnicode)
    {
        if (values.All(v => v is null))
        {
            page.Head("waiting", "unknown");
            return;
        }
        page.Head("waiting", $"in the last {Plain.Age(past)}");
        var rows = Curve.Rows(values, CurveRows, isUnicode);
        for (var row = 0; row < rows.Count; row++)
        {
            var scale = row == 0 ? Plain.Number((long)values.Max()!.Value) : row == rows.Count - 1 ? "0" : "";
            page.Add($"{Page.Cell(scale, 9, isNumber: true)} {rows[row]}".TrimEnd());
        }
        page.Add($"{"",10}{$"{Plain.Age(past)} ago".PadRight(values.Length - 3)}now", "dim");
    }

    private static void AddWorkers(Page page, IReadOnlyList<WorkerFigures>? workers, string queue)
    {
        var receiving = (workers ?? []).SelectMany(w => w.Receivers, (w, r) => (Worker: w, Receiver: r))
            .Where(x => x.Receiver.Queue == queue).ToList();
        page.Head("workers", workers is null ? "unknown: this broker keeps no register"
            : receiving.Count == 0 ? "none receives" : $"{receiving.Count}");
        if (receiving.Count == 0) return;
        var isWide = page.Width >= Screen.Wide;
        var columns = new Columns([("", 0, false), ("worker", isWide ? 30 : 20, false), ("in hand", 7, true),
            ("busy", 5, true),
            ("handled", 9, true), ("failed", 7, true), ("takes", 7, true), ("longest", 7, true),
            .. isWide ? [("95 %", 7, true), ("seen", 6, true), ("parallel", 8, true), ("prefetch", 10, false),
                ("version", 16, false)] : Array.Empty<(string, int, bool)>()]);
        page.Add(columns.Heading, "dim");
        foreach (var (w, r) in receiving)
            page.Add(columns.Row("", w.Worker, Plain.Number(r.InHand), Plain.Share(r.Utilisation),
                Plain.Number(r.Handled),
                Plain.Number(r.Failed), Plain.Age(r.HandlingTimes?.Percentile(0.5)), Plain.Age(r.Longest),
                Plain.Age(r.HandlingTimes?.Percentile(0.95)), Plain.Age(w.Seen), Plain.Number(r.Parallel), r.Prefetch,
                w.Version));
    }

    private static void AddOldest(Page page, QueueInside inside, DateTimeOffset now)
    {
        page.Head("next in line", inside.Oldest.Count == 0 ? "none" : "");
        if (inside.Oldest.Count == 0) return;
        var type = page.Width >= Screen.Wide ? 28 : 0;
        var columns = new Columns(("", 0, false), ("event", 22, false), ("state", 7, false), ("tries", 5, true),
            ("age", 6, true), (type > 0 ? "type" : "", type, false), ("last error", page.Width - type - 52, false));
        page.Add(columns.Heading, "dim");
        foreach (var queued in inside.Oldest)
        {
            var kept = new Kept("", inside.Queue, queued.LastError ?? "", null, queued.Attempts, queued.Arrived,
                queued.Json, queued);
            page.Add(columns.Row("", kept.Event?.Id ?? "(unreadable)", Words(queued.State),
                Plain.Number(queued.Attempts),
                Plain.Age(now > queued.Arrived ? now - queued.Arrived : TimeSpan.Zero), kept.Event?.Type ?? "",
                queued.LastError ?? ""));
        }
    }

    private static string Words(QueuedState state) => state switch
    {
        QueuedState.InHand => "in hand",
        QueuedState.Scheduled => "later",
        _ => "ready",
    };

    private static void AddLetters(Page page, QueueInside inside)
    {
        if (inside.Letters is not { Count: > 0 } letters)
        {
            page.Head("dead letters", inside.Letters is null ? "unknown: this broker keeps none" : "none");
            return;
        }
        page.Head("dead letters by cause", inside.LettersOf > letters.Count ? $"of the newest {letters.Count}" : "");
        foreach (var cause in letters.GroupBy(FailureCause.Of).OrderByDescending(g => g.Count()).Take(CausesShown))
        {
            var said = cause.Key.Exception is { } exception ? $"{exception}: {cause.Key.Message}" : cause.Key.Message;
            page.Hanging($"  {cause.Count(),5}×  ", $"{said} ({cause.Key.Id})", 2);
        }
        page.Add("  back or away with them: courier dead-letters", "dim");
    }
}
