using ScottPlot;

namespace Fairness;

/// <summary>Draws the runs one below the other: a row for each worker, a bar for each delivery.</summary>
internal static class Picture
{
    private const float Size = 13;
    private static readonly Color Ink = Color.FromHex("#22303a");
    private static readonly Color[] Bars = [Color.FromHex("#2f6f7e"), Color.FromHex("#7fb2b8")];

    public static void Save(string file, IReadOnlyList<Outcome> outcomes)
    {
        var end = outcomes.Max(o => o.Total.TotalSeconds) * 1.02;
        var all = new Multiplot();
        all.AddPlots(outcomes.Count);
        all.Layout = new ScottPlot.MultiplotLayouts.Grid(rows: outcomes.Count, columns: 1);
        for (var i = 0; i < outcomes.Count; i++)
            Draw(all.GetPlot(i), outcomes[i], end, isLast: i == outcomes.Count - 1);
        all.SavePng(file, 1280, 200 * outcomes.Count);
    }

    private static void Draw(Plot plot, Outcome outcome, double end, bool isLast)
    {
        foreach (var group in outcome.Bars.GroupBy(b => b.Worker))
        {
            // Neighbours differ in shade, so that each delivery shows.
            var place = 0;
            foreach (var bar in group.OrderBy(b => b.Begun))
            {
                var box = plot.Add.Rectangle(
                    bar.Begun.TotalSeconds, bar.Ended.TotalSeconds, -group.Key - 0.36, -group.Key + 0.36);
                box.FillColor = Bars[place++ % 2];
                box.LineWidth = 0;
            }
        }
        plot.Add.VerticalLine(outcome.Best.TotalSeconds, 2, Ink, LinePattern.Dashed);
        plot.Title(
            $"prefetch {outcome.Prefetch}: {outcome.Total.TotalSeconds:0.00} s, {outcome.Distance:0.0 %} longer than "
            + "the best possible (dashed)");
        plot.Axes.Title.Label.FontSize = Size + 2;
        plot.Axes.Title.Label.ForeColor = Ink;
        plot.Axes.Left.SetTicks(
            [.. Enumerable.Range(1, outcome.Workers).Select(w => (double)-w)],
            [.. Enumerable.Range(1, outcome.Workers).Select(w => $"worker {w}: {outcome.HandledBy(w)}")]);
        plot.Axes.Left.TickLabelStyle.FontSize = Size;
        plot.Axes.Bottom.TickLabelStyle.FontSize = Size;
        plot.Axes.Left.MinimumSize = plot.Axes.Left.MaximumSize = 110;
        if (isLast) plot.XLabel("seconds since the first delivery", Size);
        plot.HideGrid();
        plot.Font.Set(Fonts.Sans);
        plot.Axes.SetLimits(0, end, -outcome.Workers - 0.6, -0.4);
        plot.FigureBackground.Color = Color.FromHex("#fbfaf5");
    }
}
