using System.CommandLine;
using System.Globalization;

namespace GentleCourier.Cli;

/// <summary><c>courier plot</c>: what has been recorded, as a picture or as numbers.</summary>
internal static class PlotCommand
{
    private const int Points = 600;

    private const string Help = """
        Draws what was recorded over time, as PNG or SVG.

        One below the other: how many events waited, how old the oldest was, how many came and were handled a
        second, what was found meanwhile, deployments and notes. A time in which nobody looked is a gap. Times are
        local ones (of TZ).

        Examples:
          courier plot --dir /var/lib/courier --out day.png
          courier plot --dir /var/lib/courier --last 6h --queue fares --out fares.svg
          courier plot --dir /var/lib/courier --from "2031-06-14 06:00" --to 12:00 --json
        """;

    public static Command Create()
    {
        var command = new Command("plot", Help);
        var folder = RecordCommand.Folder();
        var queues = new Option<string[]>("--queue")
        {
            HelpName = "NAME",
            Description = $"Only this queue; may be repeated. Otherwise the {Sheet.MostLines} that were fullest.",
        };
        var from = Time("--from", "Begin there: local date and time, or the time of the last recorded day.");
        var to = Time("--to", "End there.");
        var last = new Option<TimeSpan?>("--last")
        {
            HelpName = "TIME", Description = "So much of the end, such as 30m or 6h; 24h unless --from is said.",
            CustomParser = result => Plain.ParseTime(result),
        };
        var file = new Option<FileInfo?>("--out")
        {
            HelpName = "FILE", Description = "The picture: FILE.png or FILE.svg.",
        };
        var size = new Option<string>("--size")
        {
            HelpName = "WxH", Description = "Its size, in pixels.", DefaultValueFactory = _ => "1280x800",
        };
        var json = Plain.JsonOption();
        foreach (var option in new Option[] { folder, queues, from, to, last, file, size, json })
            command.Options.Add(option);
        command.SetAction(result =>
        {
            if (result.GetValue(from) is not null && result.GetValue(last) is not null)
                throw new UsageException("say --from or --last, not both");
            var picture = result.GetValue(file);
            if (picture is null && !result.GetValue(json)) throw new UsageException("say --out FILE.png, or --json");
            if (picture is not null) Sheet.Checked(picture);
            var (width, height) = SizeOf(result.GetValue(size)!);

            var files = new RecordFiles(result.GetRequiredValue(folder));
            var (begin, end) = SpanOf(files, result.GetValue(from), result.GetValue(to), result.GetValue(last));
            var timeline = new Timeline(begin, end, Points).With(files.Read(begin, end));
            var shown = Shown(timeline, result.GetValue(queues) ?? [], files);
            if (result.GetValue(json)) Plain.PrintJson(PlotJson.Of(timeline, shown));
            if (picture is null) return 0;
            new TimelinePicture(timeline, shown, width, height).Save(
                picture.FullName, TitleOf(timeline, shown), Plain.Zone);
            if (!result.GetValue(json)) Console.WriteLine($"drawn into {picture.FullName}");
            return 0;
        });
        return command;
    }

    private static Option<string?> Time(string name, string description) =>
        new(name) { HelpName = "TIME", Description = description };

    /// <summary>Which time is drawn, as far as something of it is recorded.</summary>
    private static (DateTimeOffset From, DateTimeOffset To) SpanOf(
        RecordFiles files, string? from, string? to, TimeSpan? last)
    {
        if (files.Span() is not { } span)
            throw new UsageException($"nothing is recorded in {files.Folder}; `courier record --dir …` does it");
        var day = Plain.InZone(span.Last).DateTime;
        var end = to is null ? span.Last : Plain.Moment(to, "--to", day);
        var begin = from is null ? end - (last ?? TimeSpan.FromHours(24)) : Plain.Moment(from, "--from", day);
        if (begin < span.First) begin = span.First;
        if (end > span.Last) end = span.Last;
        return begin < end ? (begin, end) : throw new UsageException(
            $"nothing is recorded of that time in {files.Folder}: there is {Local(span.First)} to {Local(span.Last)}");
    }

    private static List<Series> Shown(Timeline timeline, string[] named, RecordFiles files)
    {
        var all = timeline.Queues;
        if (named.FirstOrDefault(name => all.All(q => q.Name != name)) is { } unknown)
            throw new UsageException($"nothing of queue '{unknown}' is recorded then in {files.Folder}; there is "
                + string.Join(", ", all.Select(q => q.Name)));
        if (named.Length > Sheet.MostLines)
            throw new UsageException($"no more than {Sheet.MostLines} queues can be told apart in a picture");
        var shown = named.Length > 0 ? all.Where(q => named.Contains(q.Name))
            : all.OrderByDescending(q => q.Peak).Take(Sheet.MostLines).OrderBy(q => q.Name, StringComparer.Ordinal);
        List<Series> some = [.. shown];
        return some.Count > 0 ? some : throw new UsageException(
            $"of that time no look at a queue is recorded in {files.Folder}");
    }

    private static string TitleOf(Timeline timeline, List<Series> shown) =>
        $"{Local(timeline.From)} to {Local(timeline.To)}, local time"
        + (shown.Count < timeline.Queues.Count
            ? $"; {shown.Count} of {timeline.Queues.Count} queues" : "");

    private static string Local(DateTimeOffset time) =>
        Plain.InZone(time).ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture);

    private static (int Width, int Height) SizeOf(string text) => text.Split('x') is [var w, var h]
        && int.TryParse(w, NumberStyles.None, CultureInfo.InvariantCulture, out var width)
            && width is >= 400 and <= 8000
        && int.TryParse(h, NumberStyles.None, CultureInfo.InvariantCulture, out var height)
            && height is >= 300 and <= 8000
        ? (width, height) : throw new UsageException($"--size '{text}' is not like 1280x800 (400x300 to 8000x8000)");
}

/// <summary>A picture's numbers, for scripts.</summary>
internal static class PlotJson
{
    public static object Of(Timeline timeline, IReadOnlyList<Series> shown) => new
    {
        timeline.From, timeline.To, queues = shown.Select(Of), outboxes = timeline.Outboxes.Select(Of),
        findings = timeline.Findings.Select(f => new { f.Finding, f.What, f.From, f.To }),
        marks = timeline.Marks.Select(m => new { m.At, m.What }),
    };

    private static object Of(Series series) => new
    {
        series.Name,
        points = series.Points.Select(p => p is null ? null : new
        {
            p.At, p.Waiting, oldestAgeSeconds = p.Oldest?.TotalSeconds, arrivalsPerSecond = p.Came,
            handledPerSecond = p.Handled,
        }),
    };
}
