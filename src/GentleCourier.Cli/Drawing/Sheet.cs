using GentleCourier.Engines;
using ScottPlot;
using SkiaSharp;

namespace GentleCourier.Cli;

/// <summary>
/// Panels one below the other over one axis of time, and how all pictures of this command look: lines differ in their
/// dashes as well as in colour.
/// </summary>
internal sealed class Sheet(DateTimeOffset from, DateTimeOffset to, int width, int height)
{
    /// <summary>How many lines can be told apart.</summary>
    public const int MostLines = 6;

    private const float Left = 84, Right = 24, Text = 13;

    public static readonly Color Paper = Color.FromHex("#fbfaf5"), Ink = Color.FromHex("#22303a"),
        Pale = Color.FromHex("#8a979e");

    // As many as MostLines.
    private static readonly (Color Colour, LinePattern Dashes)[] Pens =
    [
        (Color.FromHex("#1f6f8b"), LinePattern.Solid), (Color.FromHex("#b5542d"), LinePattern.Dashed),
        (Color.FromHex("#5b7f34"), LinePattern.Dotted), (Color.FromHex("#6a4c93"), LinePattern.DenselyDashed),
        (Color.FromHex("#a07d12"), LinePattern.Solid), (Color.FromHex("#374a57"), LinePattern.Dashed),
    ];

    public static readonly string FontName = Array.Find(
        ["DejaVu Sans", "Liberation Sans", "Noto Sans", "FreeSans"],
        name => SKFontManager.Default.MatchFamily(name) is not null) ?? Fonts.Default;

    private readonly List<(Plot Plot, int Share)> panels = [];

    /// <summary>A panel below the others.</summary>
    /// <param name="label">What is drawn up, with its unit.</param>
    /// <param name="share">Its height, relative to others.</param>
    public Plot Add(string label, int share)
    {
        var plot = new Plot();
        panels.Add((plot, share));
        plot.YLabel(label, Text);
        plot.Axes.Left.Label.ForeColor = plot.Axes.Left.TickLabelStyle.ForeColor = Ink;
        plot.Axes.Left.TickLabelStyle.FontSize = plot.Axes.Bottom.TickLabelStyle.FontSize = Text;
        plot.Axes.Left.Label.Bold = false;
        plot.Grid.MajorLineColor = Ink.WithAlpha(0.1);
        plot.FigureBackground.Color = Paper;
        plot.DataBackground.Color = Colors.White;
        return plot;
    }

    /// <summary>Where on the axis a moment is.</summary>
    public double X(DateTimeOffset at) => (at - from).TotalSeconds;

    /// <summary>A line with gaps.</summary>
    /// <param name="plot">In which panel.</param>
    /// <param name="pen">Which pen, 0 or more.</param>
    /// <param name="points">Null, or without a value, is a gap.</param>
    /// <param name="legend">What it is called.</param>
    public void Line(Plot plot, int pen, IEnumerable<(DateTimeOffset At, double? Value)?> points, string? legend)
    {
        var (colour, dashes) = Pens[pen % Pens.Length];
        var parts = Parts(points);
        foreach (var part in parts)
        {
            var line = plot.Add.ScatterLine(part.ConvertAll(p => p.X), part.ConvertAll(p => p.Y), colour);
            (line.LineWidth, line.LinePattern) = (2, dashes);
            // One look between two gaps is no line.
            if (part.Count == 1) line.MarkerSize = 5;
            if (part == parts.MaxBy(p => p.Count)) line.LegendText = legend ?? "";
        }
    }

    private List<List<(double X, double Y)>> Parts(IEnumerable<(DateTimeOffset At, double? Value)?> points)
    {
        var parts = new List<List<(double, double)>>();
        var isGap = true;
        foreach (var point in points)
        {
            if (point is not { Value: { } value } known)
            {
                isGap = true;
                continue;
            }
            if (isGap) parts.Add([]);
            parts[^1].Add((X(known.At), value));
            isGap = false;
        }
        return parts;
    }

    /// <summary>Saves it as a picture of the kind that the file's ending names: .png or .svg.</summary>
    public void Save(string file, string title, TimeZoneInfo zone)
    {
        for (var i = 0; i < panels.Count; i++)
            Finish(panels[i].Plot, isFirst: i == 0, isLast: i == panels.Count - 1, title, zone);
        Directory.CreateDirectory(Path.GetDirectoryName(Path.GetFullPath(file))!);
        using var stream = File.Create(file);
        if (IsSvg(file))
        {
            using var canvas = SKSvgCanvas.Create(new SKRect(0, 0, width, height), stream);
            Render(canvas);
            return;
        }
        using var surface = SKSurface.Create(new SKImageInfo(width, height));
        Render(surface.Canvas);
        using var image = surface.Snapshot();
        using var png = image.Encode(SKEncodedImageFormat.Png, 100);
        png.SaveTo(stream);
    }

    private void Render(SKCanvas canvas)
    {
        var (top, shares) = (0f, panels.Sum(p => p.Share));
        foreach (var (plot, share) in panels)
        {
            // At whole pixels, so that there is no seam.
            var bottom = MathF.Round(top + ((float)height * share / shares));
            // Axes that settle while it is drawn would be drawn twice: they do so here.
            plot.RenderInMemory(width, (int)(bottom - top));
            // It begins by clearing all that it may draw on.
            canvas.Save();
            canvas.ClipRect(new SKRect(0, top, width, bottom));
            plot.Render(canvas, new PixelRect(0, width, bottom, top));
            canvas.Restore();
            top = bottom;
        }
    }

    /// <exception cref="CourierException">There is no font.</exception>
    /// <exception cref="UsageException">The file's ending names no kind of picture.</exception>
    public static FileInfo Checked(FileInfo file) => SKFontManager.Default.FontFamilyCount == 0
        ? throw new CourierException("this machine has no font to write with; install one, such as DejaVu Sans")
        : IsSvg(file.Name)
        || file.Name.EndsWith(".png", StringComparison.OrdinalIgnoreCase) ? file
        : throw new UsageException($"--out must end with .png or .svg, and '{file.Name}' does not");

    private static bool IsSvg(string file) => file.EndsWith(".svg", StringComparison.OrdinalIgnoreCase);

    private void Finish(Plot plot, bool isFirst, bool isLast, string title, TimeZoneInfo zone)
    {
        if (isFirst)
        {
            plot.Title(title, Text + 2);
            plot.Axes.Title.Label.ForeColor = Ink;
            plot.Axes.Title.Label.Bold = false;
            plot.Axes.Title.Label.OffsetY = 5;
        }
        var ticks = LocalTime.Ticks(from, to, Math.Max(2, width / 110), zone);
        plot.Axes.Bottom.SetTicks([.. ticks.Select(t => X(t.At))], [.. ticks.Select(t => isLast ? t.Label : "")]);
        plot.Axes.SetLimitsX(0, Math.Max(1e-3, X(to)));
        plot.Layout.Fixed(new PixelPadding(Left, Right, isLast ? 44 : 6, isFirst ? 34 : 10));
        plot.Font.Set(FontName);
    }
}
