using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>
/// A recording as series that can be drawn: of each queue and outbox a point for each stretch of looks, and none where
/// nobody looked. However long the recording is, it keeps no more than about <c>points</c> of each. Pure.
/// </summary>
internal sealed class Timeline(DateTimeOffset from, DateTimeOffset to, int points)
{
    // A look that comes a little late is none that is missing.
    private const double Patience = 2.5;

    private readonly Dictionary<(RowKind Kind, string Name), Series> series = [];
    private readonly Dictionary<string, Span> open = new(StringComparer.Ordinal);
    private readonly List<Span> findings = [];
    private readonly List<(DateTimeOffset At, string What)> marks = [];
    private readonly List<DateTimeOffset?> moments = [];
    private DateTimeOffset? latest, begun;
    private DateTimeOffset seen;
    private bool hasSeen;
    private TimeSpan every = TimeSpan.FromSeconds(10);

    /// <summary>A finding, from when to when.</summary>
    public sealed record Span(string Finding, string What, DateTimeOffset From)
    {
        public DateTimeOffset To { get; set; } = From;
    }

    public DateTimeOffset From => from;

    public DateTimeOffset To => to;

    /// <summary>The moments of all points, in order; null is a gap.</summary>
    public IReadOnlyList<DateTimeOffset?> Moments => moments;

    public IReadOnlyList<Series> Queues => Of(RowKind.Queue);

    public IReadOnlyList<Series> Outboxes => Of(RowKind.Outbox);

    public IReadOnlyList<Span> Findings => findings.FindAll(f => f.To >= from);

    /// <summary>Deployments and notes.</summary>
    public IReadOnlyList<(DateTimeOffset At, string What)> Marks => marks.FindAll(m => m.At >= from);

    /// <summary>Takes the rows in the order in which they were written.</summary>
    public Timeline With(IEnumerable<Row> rows)
    {
        foreach (var row in rows) Take(row);
        Close();
        return this;
    }

    private void Take(Row row)
    {
        if (row.EverySeconds is > 0 and < 1e6) every = TimeSpan.FromSeconds(row.EverySeconds.Value);
        switch (row.Kind)
        {
            case RowKind.Start:
                // What went on while nobody looked is not known.
                latest = null;
                open.Clear();
                foreach (var one in series.Values) one.Forget();
                break;
            case RowKind.Look:
                Look(row.Time);
                break;
            case RowKind.Queue or RowKind.Outbox:
                if (!series.TryGetValue((row.Kind, row.Name), out var known))
                    series[(row.Kind, row.Name)] = known = new Series(row.Name);
                known.Now = row;
                break;
            case RowKind.Found when !open.ContainsKey(row.Name):
                findings.Add(open[row.Name] = new Span(row.Name, row.Text ?? "", row.Time));
                break;
            case RowKind.Over when open.Remove(row.Name, out var over):
                over.To = row.Time;
                break;
            case RowKind.Deployment:
                marks.Add((row.Time, $"{row.Name} {row.Text}"));
                break;
            case RowKind.Note:
                marks.Add((row.Time, row.Text ?? ""));
                break;
            default:
                break;
        }
    }

    private void Look(DateTimeOffset at)
    {
        var isGap = latest is not { } before || at < before || at - before > every * Patience;
        if (isGap)
        {
            Close();
            begun = null;
            if (moments is [.., not null]) moments.Add(null);
            foreach (var one in series.Values) one.Interrupt();
        }
        latest = at;
        foreach (var span in open.Values) span.To = at;
        foreach (var one in series.Values) one.Look(at, isShown: at >= from);
        if (at < from) return;
        (hasSeen, seen) = (true, at);
        if (begun is not { } since || at - since >= (to - from) / points) Close();
    }

    /// <summary>All points of a stretch end together.</summary>
    private void Close()
    {
        if (!hasSeen) return;
        moments.Add(seen);
        foreach (var one in series.Values) one.Close(seen);
        (begun, hasSeen) = (seen, false);
    }

    private List<Series> Of(RowKind kind) =>
        [.. series.Where(s => s.Key.Kind == kind && s.Value.Points.Any(p => p is not null)).Select(s => s.Value)
            .OrderBy(s => s.Name, StringComparer.Ordinal)];
}

/// <summary>What a stretch of looks at a queue or an outbox has seen.</summary>
/// <param name="At">Its end.</param>
/// <param name="Waiting">The most that waited; null where that was not known.</param>
/// <param name="Oldest">The greatest age of the oldest.</param>
/// <param name="Came">Events that came, a second; null where there is nothing to compare with.</param>
/// <param name="Handled">Events that were handled, a second.</param>
internal sealed record Point(DateTimeOffset At, long? Waiting, TimeSpan? Oldest, double? Came, double? Handled)
{
    /// <summary>For how long it was counted what came and was handled.</summary>
    public double Seconds { get; init; }

    /// <summary>How it was at its end.</summary>
    public Row? Last { get; init; }
}

/// <summary>A queue or an outbox over time.</summary>
internal sealed class Series(string name)
{
    private readonly List<Point?> points = [];
    private (DateTimeOffset At, Row Row)? before;
    private bool hasSeen;
    private long? waiting;
    private double? oldest;
    private (double Seconds, long Came, long Handled) moved;

    public string Name { get; } = name;

    /// <summary>As it is now; null where that is not known any more.</summary>
    public Row? Now { get; set; }

    /// <summary>In order of time; null is a gap.</summary>
    public IReadOnlyList<Point?> Points => points;

    /// <summary>The most that ever waited.</summary>
    public long Peak => points.Max(p => p?.Waiting) ?? 0;

    public void Forget() => Now = null;

    /// <summary>Nobody looked for a while.</summary>
    public void Interrupt()
    {
        before = null;
        if (points is [.., not null]) points.Add(null);
    }

    public void Look(DateTimeOffset at, bool isShown)
    {
        if (Now is not { } now)
        {
            Interrupt();
            return;
        }
        if (isShown)
        {
            (hasSeen, waiting, oldest) = (true, Most(waiting, now.Waiting), Most(oldest, now.OldestSeconds));
            // Counts that begin anew are of another broker.
            if (before is { } b && now.Came >= b.Row.Came && now.Handled >= b.Row.Handled)
            {
                moved = (moved.Seconds + (at - b.At).TotalSeconds, moved.Came + (now.Came - b.Row.Came)!.Value,
                    moved.Handled + (now.Handled - b.Row.Handled)!.Value);
            }
        }
        before = (at, now);
    }

    /// <summary>Makes a point of what has been seen.</summary>
    public void Close(DateTimeOffset at)
    {
        if (hasSeen)
        {
            points.Add(new Point(at, waiting, oldest is { } age ? TimeSpan.FromSeconds(age) : null,
                moved.Seconds > 0 ? moved.Came / moved.Seconds : null,
                moved.Seconds > 0 ? moved.Handled / moved.Seconds : null)
            {
                Seconds = moved.Seconds, Last = before?.Row,
            });
        }
        (hasSeen, waiting, oldest, moved) = (false, null, null, default);
    }

    private static T? Most<T>(T? a, T? b) where T : struct, IComparable<T> =>
        a is { } x && b is { } y ? (x.CompareTo(y) >= 0 ? x : y) : a ?? b;
}
