using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>
/// How a view looks on a terminal of a given size: nothing is said by colour alone, and nothing is wider or higher than
/// it. Pure.
/// </summary>
internal static class Screen
{
    /// <summary>Terminals of this width or more show more columns.</summary>
    public const int Wide = 120;

    // A curve of fewer points says nothing.
    private const int ShortestCurve = 8;

    private static readonly (string Title, int Width, bool IsNumber, Func<QueueStatus, string> Of)[] Further =
    [
        ("outlook", 22, false, StatusText.OutlookOf), ("workers", 7, true, WorkersOf),
        ("in hand", 7, true, q => Plain.Number(q.Figures.InHand)),
        ("oldest", 7, true, q => Plain.Age(q.Figures.OldestAge)),
    ];

    private static readonly TimeSpan Stale = TimeSpan.FromSeconds(10);

    /// <summary>The lines, as many as there is room for, in the terminal package's markup.</summary>
    public static IReadOnlyList<string> Of(View view, DateTimeOffset now, int width, int height, bool isUnicode)
    {
        var page = new Page(width);
        AddTop(page, view, now);
        if (view.Status is null) page.Add("looking …");
        else if (view.Closer is { } queue && view.Queues.FirstOrDefault(q => q.Figures.Queue == queue) is { } status)
        {
            // What does not fit is scrolled, below the line at the top.
            var inside = new Page(width);
            QueuePage.Add(inside, view, status, isUnicode);
            var rows = Math.Max(1, height - 1 - page.Lines.Count);
            var from = view.ScrolledOf(rows, inside.Lines.Count);
            return
            [
                .. page.Lines, .. Filled(inside.Lines.Skip(from).Take(rows), rows), .. Bottom(width,
                    from + rows < inside.Lines.Count ? "more below · " : "",
                    "esc: all queues · ↑ ↓: scroll · q: end"),
            ];
        }
        else AddList(page, view, height - 1, isUnicode);
        return [.. Filled(page.Lines, height - 1), .. Bottom(width,
            "", "↑ ↓: choose · enter: look closer · "
            + $"o: order ({view.Order.ToString().ToLowerInvariant()}) · q: end")];
    }

    private static void AddTop(Page page, View view, DateTimeOffset now)
    {
        var wrong = view.Findings.Count(f => f.IsWrong);
        var verdict = view.Status is null ? "" : wrong > 0 ? $"{wrong} wrong" : "nothing wrong";
        var time = $"{Plain.InZone(now):HH:mm:ss}";
        var about = view.Status?.Broker?.Broker ?? "";
        var title = Page.Cell($"courier watch  {about}", page.Width - verdict.Length - time.Length - 4);
        page.Add($"{title}  {verdict}  {time}", "invert");
        var age = now - view.LookedAt;
        if (view.Problem is { } problem)
            page.Hanging("away  ", $"{problem}; what is shown is {Plain.Age(age)} old", 3, "bold");
        else if (view.Status is not null && age > Stale)
            page.Add($"slow  no answer for {Plain.Age(age)}: what is shown is as old", "bold");
    }

    private static void AddList(Page page, View view, int height, bool isUnicode)
    {
        // Queues get what is left; what is wrong and outboxes are always there, in short.
        var rest = new Page(page.Width);
        AddOutboxes(rest, view.Status!.Stores);
        AddFindings(rest, view.Findings, page.Lines.Count + 8 + rest.Lines.Count < height
            ? (height - page.Lines.Count - rest.Lines.Count) / 3 : 3);
        AddQueues(page, view, Math.Max(3, height - page.Lines.Count - rest.Lines.Count - 2), isUnicode);
        foreach (var line in rest.Lines) page.AddRaw(line);
    }

    private static void AddQueues(Page page, View view, int rows, bool isUnicode)
    {
        if (view.Queues.Count == 0)
        {
            page.Head("queues", view.Problem is not null ? "unknown"
                : view.Status!.Broker is null ? "no broker was named" : "none yet");
            return;
        }
        var isWide = page.Width >= Wide;
        var name = Math.Clamp(view.Queues.Max(q => q.Figures.Queue.Length), 8, isWide ? 30 : 16);
        // What there is always, with what is between; the rest as far as there is room, what matters most first.
        var room = page.Width - name - 52;
        var more = new List<(string Title, int Width, bool IsNumber, Func<QueueStatus, string> Of)>();
        foreach (var column in isWide ? Further : [])
        {
            if (room - column.Width - 2 < ShortestCurve) continue;
            more.Add(column);
            room -= column.Width + 2;
        }
        var history = Math.Max(ShortestCurve, room);
        var columns = new Columns(
            [
                ("", 1, false), ("queue", name, false), ("waiting", 9, true), ("lag", 7, true), ("come/s", 7, true),
                ("done/s", 7, true), ("dead", 6, true), .. more.Select(c => (c.Title, c.Width, c.IsNumber)),
                ($"last {Plain.Age(view.Past)}", history, false),
            ]);
        var top = view.TopOf(rows - 1);
        var (last, chosen) = (Math.Min(view.Queues.Count, top + rows - 1), view.Chosen);
        page.Head("queues", view.Queues.Count > last - top ? $"{top + 1} to {last} of {view.Queues.Count}" : "");
        page.Add(columns.Heading, "dim");
        for (var i = top; i < last; i++)
        {
            var (q, f) = (view.Queues[i], view.Queues[i].Figures);
            string[] cells =
            [
                i == chosen ? ">" : "", f.Queue, Plain.Number(f.Waiting), LagOf(q), Plain.Rate(q.Rates?.Arrivals),
                Plain.Rate(q.Rates?.Handled), Plain.Number(f.DeadLetters),
                .. more.Select(column => column.Of(q)), Curve.Row(view.CurveOf(f, history), isUnicode),
            ];
            page.Add(columns.Row(cells), i == chosen ? "bold" : null);
        }
    }

    public static string LagOf(QueueStatus q) =>
        q.Figures.Waiting > 0 && q.Lag is null ? "unknown" : Plain.Age(q.Lag);

    private static string WorkersOf(QueueStatus q) =>
        q.Receivers is { } receivers ? Plain.Number(receivers.Count) : "unknown";

    private static void AddOutboxes(Page page, IReadOnlyList<StoreFigures> stores)
    {
        const int most = 5;
        if (stores.Count == 0) return;
        page.Head("outboxes");
        // Those that something is the matter with first.
        foreach (var store in stores.OrderByDescending(s => s.Outbox.Waiting + s.Outbox.Refused).Take(most))
        {
            var f = store.Outbox;
            var relay = f.Relay is null ? "no relay leads" : f.LastError is { } error ? $"stuck: {error}" : "relayed";
            page.Add($"  {Page.Cell(store.Store, 20)}  {Plain.Number(f.Waiting)} waiting, {Plain.Number(f.Held)} held, "
                + $"{Plain.Number(f.Refused)} refused, oldest {Plain.Age(f.OldestAge)}; {relay}");
        }
        if (stores.Count > most) page.Add($"  and {stores.Count - most} more, with less in them", "dim");
    }

    private static void AddFindings(Page page, IReadOnlyList<Finding> findings, int rows)
    {
        if (findings.Count == 0) return;
        page.Head("findings");
        var most = page.Lines.Count + Math.Max(3, rows);
        for (var i = 0; i < findings.Count; i++)
        {
            if (page.Lines.Count >= most)
            {
                page.Add($"      and {findings.Count - i} more: see `courier status`", "dim");
                return;
            }
            var finding = findings[i];
            page.Hanging(finding.IsWrong ? "wrong " : "note  ", $"{finding.What}; next: {finding.Next}", 2,
                finding.IsWrong ? "bold" : null, finding.IsWrong ? "red" : "olive");
        }
    }

    private static IEnumerable<string> Filled(IEnumerable<string> lines, int height)
    {
        var count = 0;
        foreach (var line in lines.Take(height))
        {
            count++;
            yield return line;
        }
        for (; count < height; count++) yield return "";
    }

    private static IReadOnlyList<string> Bottom(int width, string more, string keys)
    {
        var page = new Page(width);
        page.Add($"{more}{keys}", "dim");
        return page.Lines;
    }
}
