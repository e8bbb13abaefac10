using System.Globalization;
using System.Text.RegularExpressions;
using ScottPlot;

namespace FerryLine.Demo;

/// <summary>
/// One trace of the day, out of what the services have written to their logs, and how it looks: the spans below one
/// another, each under the one that it comes of.
/// </summary>
internal sealed partial class Trace
{
    private const string FontName = "DejaVu Sans";

    private static readonly Color Paper = Color.FromHex("#fbfaf5"), Ink = Color.FromHex("#22303a");

    private static readonly Dictionary<string, Color> Services = new()
    {
        ["Harbour"] = Color.FromHex("#1f6f8b"), ["Fares"] = Color.FromHex("#b5542d"),
        ["DeckCount"] = Color.FromHex("#5b7f34"), ["Notices"] = Color.FromHex("#6a4c93"),
    };

    private readonly List<Span> rows = [];

    private sealed record Span(
        string Service, string Trace, string Id, string? Parent, string Name, DateTimeOffset Began, TimeSpan Took);

    /// <summary>
    /// That of a tap which went through most services, and the quickest of those; null where there is none.
    /// </summary>
    public static Trace? Read(string folder)
    {
        var richest = Services.Keys.SelectMany(service => ReadLog(service, Path.Combine(folder, $"{service}.log")))
            .GroupBy(s => s.Trace)
            .Where(t => t.Any(s => s.Parent is null && s.Name.StartsWith("POST", StringComparison.Ordinal)))
            .OrderByDescending(t => t.Select(s => s.Service).Distinct().Count())
            .ThenBy(t => t.Max(s => s.Began + s.Took) - t.Min(s => s.Began)).FirstOrDefault();
        if (richest is null) return null;
        var trace = new Trace();
        trace.Add([.. richest.OrderBy(s => s.Began)], null);
        return trace;
    }

    public void Draw(string file)
    {
        var start = rows[0].Began;
        var end = rows.Max(r => (r.Began - start + r.Took).TotalMilliseconds);
        var plot = new Plot();
        (plot.FigureBackground.Color, plot.DataBackground.Color) = (Paper, Paper);
        for (var i = 0; i < rows.Count; i++)
        {
            var span = rows[i];
            var from = (span.Began - start).TotalMilliseconds;
            var to = Math.Max(from + span.Took.TotalMilliseconds, from + (end / 300));
            var bar = plot.Add.Rectangle(from, to, i - 0.3, i + 0.3);
            (bar.FillColor, bar.LineWidth) = (Services[span.Service], 0);
            // Beside its bar: on the side where there is room.
            var isLeft = from > end * 0.6;
            var label = plot.Add.Text(
                string.Create(CultureInfo.InvariantCulture,
                    $"{span.Service}: {span.Name}  {span.Took.TotalMilliseconds:0.0} ms"),
                isLeft ? from - (end / 150) : to + (end / 150), i);
            label.LabelAlignment = isLeft ? Alignment.MiddleRight : Alignment.MiddleLeft;
            (label.LabelFontName, label.LabelFontSize, label.LabelFontColor) = (FontName, 15, Ink);
        }
        plot.Title("One tap, from the gate to the charge, the head count and the notice at the pier");
        plot.XLabel("milliseconds since the request came");
        (plot.Axes.Title.Label.FontSize, plot.Axes.Title.Label.ForeColor) = (17, Ink);
        plot.Axes.Left.SetTicks([], []);
        plot.HideGrid();
        plot.Axes.SetLimits(-end / 50, end * 1.04, rows.Count - 0.4, -0.6);
        plot.Font.Set(FontName);
        plot.SavePng(file, 1280, 120 + (40 * rows.Count));
    }

    private void Add(List<Span> all, string? parent)
    {
        foreach (var span in all.Where(s => s.Parent == parent))
        {
            rows.Add(span);
            Add(all, span.Id);
        }
    }

    /// <summary>Spans as the console exporter writes them: a line for each of their properties.</summary>
    private static IEnumerable<Span> ReadLog(string service, string file)
    {
        var said = new Dictionary<string, string>();
        foreach (var line in File.ReadLines(file))
        {
            if (Property().Match(line) is not { Success: true } property) continue;
            var name = property.Groups["name"].Value;
            if (name == "TraceId") said.Clear();
            said[name] = property.Groups["value"].Value.Trim();
            if (name != "Duration") continue;
            yield return new Span(
                service, said["TraceId"], said["SpanId"], said.GetValueOrDefault("ParentSpanId"), said["DisplayName"],
                DateTimeOffset.Parse(said["StartTime"], CultureInfo.InvariantCulture),
                TimeSpan.Parse(said["Duration"], CultureInfo.InvariantCulture));
        }
    }

    [GeneratedRegex(@"^Activity\.(?<name>\w+): +(?<value>.*)$", RegexOptions.None,
        matchTimeoutMilliseconds: 1000)]
    private static partial Regex Property();
}
