using System.CommandLine;
using System.CommandLine.Parsing;
using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;
using GentleCourier.ByHand;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary>
/// How things are shown to people and to scripts. What comes out of events may hold anything, so control characters
/// never reach the terminal.
/// </summary>
internal static class Plain
{
    private static readonly JsonSerializerOptions Indented = new(JsonSerializerDefaults.Web)
    {
        WriteIndented = true,
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
        DefaultIgnoreCondition = JsonIgnoreCondition.Never,
        Converters = { new JsonStringEnumConverter(JsonNamingPolicy.CamelCase) },
    };

    private static readonly JsonSerializerOptions InLine = new(Indented) { WriteIndented = false };

    /// <summary>The option of each command that reads.</summary>
    public static Option<bool> JsonOption() => new("--json") { Description = "Print JSON, for scripts." };

    public static void PrintJson(object value) => Console.WriteLine(JsonSerializer.Serialize(value, Indented));

    /// <summary>JSON in one line.</summary>
    public static string Json(object value) => JsonSerializer.Serialize(value, InLine);

    /// <summary>Text in one line, without control characters.</summary>
    public static string Line(string text) => Words.Line(text);

    /// <summary>Text in several lines, without other control characters.</summary>
    public static string Lines(string text) =>
        string.Concat(text.Select(c => c is '\n' or '\t' || !char.IsControl(c) ? c : ' '));

    /// <summary>An age, in the largest unit that says enough.</summary>
    public static string Age(TimeSpan? age) => age switch
    {
        null => "-",
        { Ticks: 0 } => "0 s",
        { TotalSeconds: < 1 } => $"{age.Value.TotalMilliseconds:0} ms",
        { TotalMinutes: < 2 } => $"{age.Value.TotalSeconds:0} s",
        { TotalHours: < 2 } => $"{age.Value.TotalMinutes:0} min",
        { TotalDays: < 2 } => $"{age.Value.TotalHours:0} h",
        _ => $"{age.Value.TotalDays:0} days",
    };

    /// <summary>Text for a cell of a table.</summary>
    public static string Cell(string text) => Markup.Escape(Line(text));

    /// <summary>How what is wrong is written, where there is colour; words say it everywhere.</summary>
    public static Style Wrong { get; } = new(Color.Red, decoration: Decoration.Bold);

    /// <summary>The same for what is worth a look.</summary>
    public static Style Note { get; } = new(Color.Olive);

    /// <summary>The same for what stands above others.</summary>
    public static Style Heading { get; } = new(decoration: Decoration.Bold);

    /// <summary>Writes text behind a head; further lines of it begin below its first.</summary>
    /// <param name="head">The head, which says in words what its style says, too.</param>
    /// <param name="text">The text.</param>
    /// <param name="style">The head's.</param>
    public static void WriteHanging(string head, string text, Style? style = null)
    {
        var room = Math.Max(20, AnsiConsole.Profile.Width - head.Length);
        var line = new StringBuilder();
        foreach (var word in Line(text).Split(' '))
        {
            if (line.Length > 0 && line.Length + 1 + word.Length > room)
            {
                WriteHead();
                line.Clear();
            }
            if (line.Length > 0) line.Append(' ');
            line.Append(word);
        }
        WriteHead();

        void WriteHead()
        {
            AnsiConsole.Write(new Text(head, style ?? Style.Plain));
            AnsiConsole.WriteLine(line.ToString());
            head = new string(' ', head.Length);
        }
    }

    /// <summary>How many there are of something.</summary>
    public static string Count(long count, string thing) => $"{count:N0} {thing}{(count == 1 ? "" : "s")}";

    public static string Number(long? number) => number is { } known ? $"{known:N0}" : "unknown";

    /// <summary>Events a second.</summary>
    public static string Rate(double? rate) => rate switch
    {
        null => "unknown", 0 => "0", < 0.1 => "<0.1", < 10 => $"{rate:0.0}", _ => $"{rate:N0}",
    };

    /// <summary>Of a whole.</summary>
    public static string Share(double? share) => share is { } known ? $"{known:0 %}" : "-";

    /// <summary>A time of a command line: 500ms, 90s, 10m, 2h, 3d.</summary>
    public static TimeSpan ParseTime(ArgumentResult result)
    {
        var text = result.Tokens is [var token] ? token.Value : "";
        if (text.EndsWith("ms", StringComparison.Ordinal)
            && int.TryParse(text[..^2], NumberStyles.None, CultureInfo.InvariantCulture, out var milliseconds))
            return TimeSpan.FromMilliseconds(milliseconds);
        if (text.Length > 1 && double.TryParse(text[..^1], NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture,
            out var number) && number <= 10_000)
        {
            if (text[^1] == 's') return TimeSpan.FromSeconds(number);
            if (text[^1] == 'm') return TimeSpan.FromMinutes(number);
            if (text[^1] == 'h') return TimeSpan.FromHours(number);
            if (text[^1] == 'd') return TimeSpan.FromDays(number);
        }
        result.AddError($"'{text}' is not a time; one is like 90s, 10m, 2h or 3d");
        return default;
    }

    /// <summary>A time, as it is typed: seconds, or minutes where they are whole.</summary>
    public static string Short(TimeSpan time) =>
        time.TotalSeconds % 60 == 0 ? $"{time.TotalMinutes:0}m" : $"{time.TotalSeconds:0}s";

    /// <summary>How often a command looks: between so many milliseconds and ten minutes.</summary>
    public static Option<TimeSpan?> EveryOption(int shortest, TimeSpan otherwise)
    {
        var every = new Option<TimeSpan?>("--every")
        {
            HelpName = "TIME",
            Description = $"How often to look, {shortest}ms to 10m. [default: {Short(otherwise)}]",
            CustomParser = result => ParseTime(result),
        };
        every.Validators.Add(result =>
        {
            if (result.Errors.Any()) return;
            var time = result.GetValueOrDefault<TimeSpan?>();
            if (time < TimeSpan.FromMilliseconds(shortest) || time > TimeSpan.FromMinutes(10))
                result.AddError($"--every must be {shortest}ms to 10m");
        });
        return every;
    }

    /// <summary>The zone in which times are read and shown.</summary>
    public static TimeZoneInfo Zone { get; set; } = TimeZoneInfo.Local;

    /// <summary>As it is in that zone.</summary>
    public static DateTimeOffset InZone(DateTimeOffset time) => TimeZoneInfo.ConvertTime(time, Zone);

    /// <summary>The day that it is there.</summary>
    public static DateTime Today => InZone(DateTimeOffset.UtcNow).Date;

    /// <summary>A date and time, or the time of a day, in that zone; an offset or Z may be said with it.</summary>
    public static DateTimeOffset Moment(string text, string option, DateTime day)
    {
        if (TimeOnly.TryParseExact(text, ["HH:mm", "HH:mm:ss"], CultureInfo.InvariantCulture, DateTimeStyles.None,
            out var time))
            return new DateTimeOffset(day.Date + time.ToTimeSpan(), Zone.GetUtcOffset(day.Date + time.ToTimeSpan()));
        var zone = Zone.Equals(TimeZoneInfo.Utc) ? DateTimeStyles.AssumeUniversal : DateTimeStyles.AssumeLocal;
        return DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, zone, out var known)
            ? known : throw new UsageException($"{option} '{text}' is no time; one is like 14:30 or "
                + "\"2031-06-14 14:30\"");
    }

    /// <summary>How long until a time, from the largest unit on that says enough.</summary>
    public static string Until(TimeSpan? left) =>
        left is { } time && time < TimeSpan.Zero ? $"{Age(-time)} ago" : $"in {Age(left)}";

    /// <summary>Has an option take a whole number from 1 on.</summary>
    public static Action<OptionResult> WholeNumber(string option, int most) => result =>
    {
        if (result.Tokens is not [var token]) return;
        if (!int.TryParse(token.Value, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            || number < 1 || number > most)
            result.AddError(string.Create(
                CultureInfo.InvariantCulture, $"{option} must be a whole number, 1 to {most}."));
    };

    /// <summary>JSON over several lines; what is none as it is.</summary>
    public static string Pretty(ReadOnlyMemory<byte> json)
    {
        try
        {
            using var document = JsonDocument.Parse(json);
            return JsonSerializer.Serialize(document.RootElement, Indented);
        }
        catch (JsonException)
        {
            return Encoding.UTF8.GetString(json.Span);
        }
    }

    /// <summary>That it was set aside before, and sent back.</summary>
    public static string Before(SentBack before) =>
        $"letter {before.Letter}, set aside {Time(before.SetAside)} after {Count(before.Attempts, "attempt")}: "
        + $"{before.Reason}; sent back {Time(before.At)}{(before.IsRepaired ? ", repaired" : "")}";

    public static string Id(long number) => number.ToString(CultureInfo.InvariantCulture);

    /// <summary>To the last digit, for programs.</summary>
    public static string Exactly(DateTimeOffset time) => time.UtcDateTime.ToString("O", CultureInfo.InvariantCulture);

    /// <summary>A time with its offset; Z where there is none.</summary>
    public static string Time(DateTimeOffset? time) => time is { } known
        ? InZone(known).ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture) + Offset(known) : "unknown";

    /// <summary>A time of a day that has been said.</summary>
    public static string TimeOfDay(DateTimeOffset time) =>
        InZone(time).ToString("HH:mm:ss", CultureInfo.InvariantCulture) + Offset(time);

    private static string Offset(DateTimeOffset time) => InZone(time) is { Offset.Ticks: 0 } ? "Z"
        : InZone(time).ToString(" zzz", CultureInfo.InvariantCulture);

    /// <summary>A table without lines: headings, then rows; numbers to the right.</summary>
    public static Table Table(params ReadOnlySpan<(string Title, bool IsNumber)> columns)
    {
        var table = new Table { Border = TableBorder.None, ShowHeaders = true };
        foreach (var (title, isNumber) in columns)
        {
            var column = new TableColumn($"[bold]{title}[/]") { NoWrap = isNumber, Padding = new Padding(0, 0, 2, 0) };
            if (isNumber) column.RightAligned();
            table.AddColumn(column);
        }
        return table;
    }
}
