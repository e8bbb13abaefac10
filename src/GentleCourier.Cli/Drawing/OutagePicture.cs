using GentleCourier.Watching;
using ScottPlot;

namespace GentleCourier.Cli;

/// <summary>Draws what a planned outage does to a queue, with its uncertainty.</summary>
internal sealed class OutagePicture(Rates rates, OutageForecast forecast, TimeSpan begins, TimeSpan outage)
{
    private const int Points = 400, Width = 1280, Height = 560;
    private static readonly Color Band = Color.FromHex("#1f6f8b");

    private readonly double end = EndOf(forecast);

    public void Save(string file, TimeZoneInfo zone)
    {
        var sheet = new Sheet(rates.Now, rates.Now.AddSeconds(end), Width, Height);
        var panel = sheet.Add("waiting (events)", 1);
        var times = Enumerable.Range(0, Points + 1).Select(i => i * end / Points).ToArray();
        var waiting = Array.ConvertAll(times, forecast.WaitingAt);
        var most = Math.Max(1, waiting.Max(w => w.High!.Value));
        if (outage > TimeSpan.Zero)
        {
            panel.Add.HorizontalSpan(begins.TotalSeconds, forecast.Ends, Sheet.Pale.WithAlpha(0.18)).LineStyle.Color =
                Sheet.Pale;
            Say(panel, begins.TotalSeconds, most * 1.14, $"nobody handles anything for {Plain.Age(outage)}");
        }
        var band = panel.Add.FillY(
            times, Array.ConvertAll(waiting, w => w.Low), Array.ConvertAll(waiting, w => w.High!.Value));
        (band.FillColor, band.LineColor, band.LegendText) =
            (Band.WithAlpha(0.2), Band.WithAlpha(0.6), "nine times in ten");
        sheet.Line(
            panel, 0, times.Select((t, i) => ((DateTimeOffset, double?)?)(rates.Now.AddSeconds(t), waiting[i].About)),
            "about");
        if (forecast.Gone() is { } gone)
        {
            panel.Add.VerticalLine(gone.About, 1, Sheet.Ink, LinePattern.Dotted);
            Say(panel, gone.About, most * 0.5, $"gone at about {rates.Clock(gone.About)},\n{rates.Clock(gone.Low)} to "
                + (gone.High is { } late ? rates.Clock(late) : "nobody knows when"));
        }
        panel.Axes.SetLimitsY(0, most * 1.2);
        panel.ShowLegend(Alignment.UpperRight, Orientation.Horizontal);
        sheet.Save(file, $"{rates.Of}: {rates.Capacity}; local time", zone);
    }

    /// <summary>Until all is gone, as far as that is known.</summary>
    private static double EndOf(OutageForecast forecast)
    {
        var shown = forecast.Gone() is not { } gone ? forecast.Ends * 2
            : gone.High is { } late && late < 3 * gone.About ? late : gone.About * 1.5;
        return Math.Max(60, shown * 1.25);
    }

    private static void Say(Plot panel, double x, double y, string text)
    {
        var label = panel.Add.Text(text, x, y);
        (label.LabelFontName, label.LabelFontColor, label.LabelFontSize) = (Sheet.FontName, Sheet.Ink, 13);
        (label.OffsetX, label.LabelAlignment) = (6, Alignment.MiddleLeft);
    }
}
