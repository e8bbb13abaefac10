using ScottPlot;

namespace GentleCourier.Cli;

/// <summary>Draws what has been recorded: depth, lag, rates, and what was found and done meanwhile.</summary>
internal sealed class TimelinePicture(Timeline timeline, IReadOnlyList<Series> shown, int width, int height)
{
    private const int MostFindings = 8, MostMarks = 6;
    private readonly Sheet sheet = new(timeline.From, timeline.To, width, height);

    public void Save(string file, string title, TimeZoneInfo zone)
    {
        var findings = Findings.GroupBy(f => f.Finding).Take(MostFindings).ToList();
        var marks = timeline.Marks.Take(MostMarks).ToList();
        List<Plot> panels = [AddDepth(), AddLag(), AddRates()];
        if (findings.Count + marks.Count > 0) panels.Add(AddWhatHappened(findings, marks));
        foreach (var (panel, mark) in panels.SelectMany(_ => timeline.Marks, (p, m) => (p, m)))
        {
            panel.Add.VerticalLine(sheet.X(mark.At), 1, Sheet.Ink, LinePattern.Dotted);
        }
        sheet.Save(file, title, zone);
    }

    /// <summary>Those of queues that are drawn, and of no queue.</summary>
    private IEnumerable<Timeline.Span> Findings => timeline.Findings.Where(f => !timeline.Queues.Any(
        q => !shown.Contains(q) && f.Finding.EndsWith($" {q.Name}", StringComparison.Ordinal)));

    private Plot AddDepth()
    {
        var panel = sheet.Add("waiting (events)", 5);
        for (var i = 0; i < shown.Count; i++)
            sheet.Line(panel, i, shown[i].Points.Select(p => Of(p, p?.Waiting)), shown[i].Name);
        FromZero(panel, shown.Max(s => (double)s.Peak), hasLegend: true);
        panel.Legend.FontSize = 13;
        panel.Legend.OutlineColor = Sheet.Pale;
        panel.ShowLegend(Alignment.UpperRight, Orientation.Horizontal);
        return panel;
    }

    private Plot AddLag()
    {
        var ages = shown.SelectMany(s => s.Points).Max(p => p?.Oldest) ?? TimeSpan.Zero;
        var (unit, name) = ages switch
        {
            { TotalMinutes: < 4 } => (TimeSpan.FromSeconds(1), "s"),
            { TotalHours: < 4 } => (TimeSpan.FromMinutes(1), "min"),
            _ => (TimeSpan.FromHours(1), "h"),
        };
        var panel = sheet.Add($"oldest ({name})", 3);
        for (var i = 0; i < shown.Count; i++)
            sheet.Line(panel, i, shown[i].Points.Select(p => Of(p, p?.Oldest / unit)), null);
        FromZero(panel, ages / unit);
        return panel;
    }

    /// <summary>Of all together: two lines for each of several queues would be a tangle.</summary>
    private Plot AddRates()
    {
        var panel = sheet.Add("events a second", 4);
        var sums = shown.SelectMany(s => s.Points).OfType<Point>().GroupBy(p => p.At).ToDictionary(
            g => g.Key, g => new Point(g.Key, null, null, g.Sum(p => p.Came), g.Sum(p => p.Handled)));
        var rates = timeline.Moments.Select(m => m is { } at ? sums.GetValueOrDefault(at) : null).ToList();
        var of = shown.Count == 1 ? "" : $", {shown.Count} queues together";
        sheet.Line(panel, 1, rates.Select(p => Of(p, p?.Came)), $"come{of}");
        sheet.Line(panel, 0, rates.Select(p => Of(p, p?.Handled)), $"are handled{of}");
        FromZero(panel, rates.Max(p => p is null ? 0 : Math.Max(p.Came ?? 0, p.Handled ?? 0)), hasLegend: true);
        panel.Legend.FontSize = 13;
        panel.Legend.OutlineColor = Sheet.Pale;
        panel.ShowLegend(Alignment.UpperRight, Orientation.Horizontal);
        return panel;
    }

    private Plot AddWhatHappened(
        List<IGrouping<string, Timeline.Span>> findings, List<(DateTimeOffset At, string What)> marks)
    {
        var hidden = Findings.DistinctBy(f => f.Finding).Count() - findings.Count
            + timeline.Marks.Count - marks.Count;
        var rows = findings.Count + marks.Count + Math.Min(1, hidden);
        var panel = sheet.Add("", Math.Max(2, (rows + 1) / 2));
        var row = 0;
        foreach (var finding in findings)
        {
            foreach (var span in finding)
            {
                var begun = Math.Max(0, sheet.X(span.From));
                var box = panel.Add.Rectangle(begun, Math.Max(sheet.X(span.To), begun), row - 0.4, row + 0.4);
                // Without an edge: the name of a short one goes on beyond its end.
                (box.FillColor, box.LineWidth) = (Sheet.Pale.WithAlpha(0.45), 0);
            }
            Write(panel, finding.Min(f => f.From), row++, finding.Key);
        }
        foreach (var (at, what) in marks) Write(panel, at, row++, what, isMoment: true);
        if (hidden > 0) Write(panel, timeline.From, row, $"and {hidden} more, which --json tells");
        panel.Axes.SetLimitsY(rows - 0.4, -0.6);
        panel.Axes.Left.SetTicks([], []);
        panel.YLabel("found");
        panel.HideGrid();
        return panel;
    }

    private void Write(Plot panel, DateTimeOffset at, int row, string text, bool isMoment = false)
    {
        var x = Math.Max(0, sheet.X(at));
        var isLeft = x < sheet.X(timeline.To) * 0.7;
        var label = panel.Add.Text(!isMoment ? text : isLeft ? $"│ {text}" : $"{text} │", x, row);
        label.LabelAlignment = isLeft ? Alignment.MiddleLeft : Alignment.MiddleRight;
        (label.LabelFontName, label.LabelFontColor, label.LabelFontSize) = (Sheet.FontName, Sheet.Ink, 12);
        // A line is measured with room for accents above its letters, which are to be in the middle of a bar.
        (label.OffsetX, label.OffsetY) = (isLeft ? 4 : -4, 3);
    }

    private static (DateTimeOffset, double?)? Of(Point? point, double? value) =>
        point is null ? null : (point.At, value);

    /// <summary>With room above the highest point, for a legend where there is one.</summary>
    private static void FromZero(Plot panel, double most, bool hasLegend = false) =>
        panel.Axes.SetLimitsY(0, Math.Max(1, most) * (hasLegend ? 1.4 : 1.12));
}
