using System.Text;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>A history in characters: a row of bars, or a curve of several rows. Pure.</summary>
internal static class Curve
{
    private const string Bars = " ▁▂▃▄▅▆▇█", Plain = " .:-=+*##";
    // Workers have a queue's counts written down every ten seconds.
    private static readonly TimeSpan Near = TimeSpan.FromSeconds(25);

    /// <summary>The most that waited at each moment of the past, as many as fit, the last one now.</summary>
    /// <param name="past">Moments and what waited then, in any order.</param>
    /// <param name="now">The end, by the same clock.</param>
    /// <param name="span">For how long back.</param>
    /// <param name="places">How many there are.</param>
    /// <returns>Null where nobody looked around that time.</returns>
    public static double?[] Of(
        IEnumerable<(DateTimeOffset At, long Waiting)> past, DateTimeOffset now, TimeSpan span, int places)
    {
        var values = new double?[places];
        foreach (var (at, waiting) in past)
        {
            var place = places - 1 - (int)Math.Floor(Math.Max(0, (now - at) / (span / places)));
            if (place >= 0) values[place] = Math.Max(values[place] ?? 0, waiting);
        }
        Fill(values, span);
        return values;
    }

    /// <summary>What a queue has counted: what came and did not go was there.</summary>
    public static IEnumerable<(DateTimeOffset At, long Waiting)> Counted(IReadOnlyList<QueueCounts> history) =>
        history.Select(c => (c.At, Math.Max(0, c.Came - c.Accepted - c.SetAside)));

    /// <summary>One row; the highest bar is the most.</summary>
    public static string Row(double?[] values, bool isUnicode) => Rows(values, 1, isUnicode, leastBar: true)[0];

    /// <summary>Several rows, the topmost first.</summary>
    /// <param name="values">A column each; null is left blank.</param>
    /// <param name="rows">How many rows.</param>
    /// <param name="isUnicode">Whether the terminal has block elements.</param>
    /// <param name="leastBar">Whether what is above 0 shows, however little it is.</param>
    public static IReadOnlyList<string> Rows(double?[] values, int rows, bool isUnicode, bool leastBar = false)
    {
        var bars = isUnicode ? Bars : Plain;
        var most = values.Max() ?? 0;
        var lines = new StringBuilder[rows];
        for (var row = 0; row < rows; row++) lines[row] = new StringBuilder(values.Length);
        foreach (var value in values)
        {
            var height = most > 0 ? (value ?? 0) / most * rows * 8 : 0;
            if (value > 0 && (leastBar || rows > 1)) height = Math.Max(1, height);
            for (var row = 0; row < rows; row++)
            {
                var part = Math.Clamp((int)Math.Round(height) - ((rows - 1 - row) * 8), 0, 8);
                // Nothing waits, and nobody counted, are not the same.
                lines[row].Append(part > 0 ? bars[part] : row == rows - 1 && value is not null ? '_' : ' ');
            }
        }
        return [.. lines.Select(l => l.ToString())];
    }

    /// <summary>Places between two looks that are near each other have the earlier one's value.</summary>
    private static void Fill(double?[] values, TimeSpan span)
    {
        var near = (int)(Near / (span / values.Length)) + 1;
        var last = -1;
        for (var i = 0; i < values.Length; i++)
        {
            if (values[i] is null) continue;
            if (last >= 0 && i - last <= near)
                for (var j = last + 1; j < i; j++) values[j] = values[last];
            last = i;
        }
        if (last >= 0 && values.Length - last <= near)
            for (var j = last + 1; j < values.Length; j++) values[j] = values[last];
    }
}
