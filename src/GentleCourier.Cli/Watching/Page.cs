using System.Text;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary>Lines of a page on the terminal, cut to its width; what is not plain is bold, faint or inverted.</summary>
internal sealed class Page(int width)
{
    private readonly List<string> lines = [];

    public int Width => width;

    public IReadOnlyList<string> Lines => lines;

    public void Add(string text = "", string? style = null)
    {
        var fitted = Fit(text, width);
        // An inverted line is a bar over the whole width.
        if (style?.Contains("invert", StringComparison.Ordinal) == true) fitted = fitted.PadRight(width);
        lines.Add(style is null ? Markup.Escape(fitted) : $"[{style}]{Markup.Escape(fitted)}[/]");
    }

    /// <summary>A line of another page as wide.</summary>
    public void AddRaw(string line) => lines.Add(line);

    /// <summary>A heading, with what is said about it.</summary>
    public void Head(string title, string about = "")
    {
        Add();
        var rest = Fit(about.Length > 0 ? $"  {about}" : "", Math.Max(0, width - title.Length));
        lines.Add($"[bold]{Markup.Escape(Fit(title, width))}[/][dim]{Markup.Escape(rest)}[/]");
    }

    /// <summary>Text behind a word, in as many lines as it takes, up to a limit.</summary>
    /// <param name="head">The word, which says what its colour says, too.</param>
    /// <param name="text">The text.</param>
    /// <param name="most">How many lines.</param>
    /// <param name="style">Of all.</param>
    /// <param name="colour">Of the word.</param>
    public void Hanging(string head, string text, int most, string? style = null, string? colour = null)
    {
        var first = lines.Count;
        AddHanging(head, text, most, style);
        if (colour is null || lines[first].IndexOf(head, StringComparison.Ordinal) is not (>= 0 and var at)) return;
        lines[first] = lines[first].Insert(at + head.Length, "[/]").Insert(at, $"[{colour}]");
    }

    private void AddHanging(string head, string text, int most, string? style)
    {
        var (line, used) = (new StringBuilder(head), 0);
        foreach (var word in Plain.Line(text).Split(' '))
        {
            if (line.Length > head.Length && line.Length + 1 + word.Length > width)
            {
                if (++used == most)
                {
                    Add($"{line} …", style);
                    return;
                }
                Add(line.ToString(), style);
                line.Clear().Append(' ', head.Length);
            }
            if (line.Length > head.Length) line.Append(' ');
            line.Append(word);
        }
        Add(line.ToString(), style);
    }

    /// <summary>Text of exactly this width, cut with an ellipsis or filled up.</summary>
    public static string Cell(string text, int width, bool isNumber = false)
    {
        var fitted = Fit(text, width);
        var fill = new string(' ', Math.Max(0, width - fitted.GetCellWidth()));
        return isNumber ? fill + fitted : fitted + fill;
    }

    private static string Fit(string text, int width)
    {
        text = Plain.Line(text);
        if (text.GetCellWidth() <= width) return text;
        var fitted = new StringBuilder();
        var used = 1;
        foreach (var rune in text.EnumerateRunes())
        {
            used += rune.ToString().GetCellWidth();
            if (used > width) break;
            fitted.Append(rune);
        }
        return width < 1 ? "" : $"{fitted}…";
    }
}

/// <summary>Columns of a table on a page.</summary>
/// <param name="columns">Title, width, and whether it holds numbers.</param>
internal sealed class Columns(params IReadOnlyList<(string Title, int Width, bool IsNumber)> columns)
{
    private const int Between = 2;

    public string Heading => Line(columns.Select(c => c.Title));

    public string Row(params IEnumerable<string> cells) => Line(cells);

    private string Line(IEnumerable<string> cells) => string.Join(new string(' ', Between),
        cells.Zip(columns, (text, c) => Page.Cell(text, c.Width, c.IsNumber))).TrimEnd();
}
