using System.Diagnostics;
using System.Globalization;
using CsvHelper;

namespace GentleCourier.Cli;

/// <summary>
/// A folder with recordings: a CSV file (RFC 4180, UTF-8) for each day by UTC. Rows are only ever appended, those of a
/// look by one write; a line that a kill has cut short is closed by whoever appends next, and left out by whoever
/// reads.
/// </summary>
internal sealed class RecordFiles(DirectoryInfo folder)
{
    private const string Ending = ".csv", Day = "yyyy-MM-dd", Moment = "yyyy-MM-ddTHH:mm:ss.fffZ";

    private static readonly string[] Columns =
    [
        "time", "kind", "name", "ready", "in_hand", "scheduled", "dead_letters", "oldest_s", "came", "handled",
        "failed", "set_aside", "workers", "handlers", "busy", "every_s", "text",
    ];

    private static readonly CsvWriterOptions Writing = new() { NewLine = "\n", HasHeader = false };

    // A line that was cut short is left out, and takes no other with it.
    private static readonly CsvReaderOptions Reading = new()
    {
        Separator = ',', AllowLineBreaksInQuotes = false, MalformedData = CsvMalformedDataHandling.Skip,
        FieldCountMismatch = CsvFieldCountHandling.Skip, PoolStrings = true,
    };

    private static readonly TimeSpan LongestWait = TimeSpan.FromSeconds(2), Pause = TimeSpan.FromMilliseconds(20);

    public string Folder { get; } = folder.FullName;

    /// <summary>So that no two record into it: held until it is disposed of, or the process ends in any way.</summary>
    /// <exception cref="UsageException">Another process does.</exception>
    public IDisposable Occupy()
    {
        Directory.CreateDirectory(Folder);
        try
        {
            return Alone(".recording");
        }
        catch (IOException e) when (e is not (FileNotFoundException or DirectoryNotFoundException))
        {
            throw new UsageException($"another process records into {Folder}; name another --dir, or end that one");
        }
    }

    /// <summary>Appends rows to the files of their days, all that belong to one by one write.</summary>
    public void Append(IReadOnlyList<Row> rows)
    {
        Directory.CreateDirectory(Folder);
        using var turn = TakeTurn();
        foreach (var day in rows.GroupBy(r => r.Time.UtcDateTime.Date))
        {
            using var file = new FileStream(PathOf(day.Key), new FileStreamOptions
            {
                Mode = FileMode.OpenOrCreate, Access = FileAccess.ReadWrite, Share = FileShare.ReadWrite,
                BufferSize = 0,
            });
            var lines = Format(day, isNew: file.Length == 0);
            if (file.Length > 0)
            {
                file.Seek(-1, SeekOrigin.End);
                if (file.ReadByte() != '\n') lines = [(byte)'\n', .. lines];
            }
            file.Seek(0, SeekOrigin.End);
            file.Write(lines);
        }
    }

    /// <summary>The times between which there are rows; null where there are none.</summary>
    public (DateTimeOffset First, DateTimeOffset Last)? Span()
    {
        var days = Days();
        foreach (var first in days)
        {
            if (ReadDay(first).FirstOrDefault() is not { } row) continue;
            foreach (var last in days.AsEnumerable().Reverse())
                if (ReadDay(last).LastOrDefault() is { } end) return (row.Time, end.Time);
        }
        return null;
    }

    /// <summary>
    /// The rows of a time in the order in which they were written, beginning with the day of its beginning: since rows
    /// tell what has changed, what comes before matters.
    /// </summary>
    public IEnumerable<Row> Read(DateTimeOffset from, DateTimeOffset to) =>
        Days().Where(day => day >= from.UtcDateTime.Date && day <= to.UtcDateTime.Date).SelectMany(ReadDay)
            .Where(row => row.Time <= to);

    private List<DateTime> Days() => !Directory.Exists(Folder) ? []
        : [.. Directory.EnumerateFiles(Folder, $"*{Ending}").Select(file => DateTime.TryParseExact(
                Path.GetFileNameWithoutExtension(file), Day, CultureInfo.InvariantCulture, DateTimeStyles.None,
                out var day) ? day : default).Where(day => day != default).Order()];

    private string PathOf(DateTime day) =>
        Path.Combine(Folder, day.ToString(Day, CultureInfo.InvariantCulture) + Ending);

    private static byte[] Format(IEnumerable<Row> rows, bool isNew)
    {
        using var lines = new MemoryStream();
        using (var csv = CsvWriter.Create(lines, Writing, leaveOpen: true))
        {
            if (isNew) csv.WriteHeader(Columns);
            foreach (var row in rows) csv.WriteRecord(Fields(row));
        }
        return lines.ToArray();
    }

    private static string?[] Fields(Row r) =>
    [
        r.Time.UtcDateTime.ToString(Moment, CultureInfo.InvariantCulture), r.Kind.ToString().ToLowerInvariant(),
        Plain.Line(r.Name), Text(r.Ready), Text(r.InHand), Text(r.Scheduled), Text(r.DeadLetters),
        Text(r.OldestSeconds),
        Text(r.Came), Text(r.Handled), Text(r.Failed), Text(r.SetAside), Text(r.Workers), Text(r.Handlers),
        Text(r.Busy), Text(r.EverySeconds), r.Text is null ? null : Plain.Line(r.Text),
    ];

    private static string? Text(long? number) => number?.ToString(CultureInfo.InvariantCulture);

    private static string? Text(double? number) => number?.ToString("0.###", CultureInfo.InvariantCulture);

    /// <summary>Another process may append at the same moment, a note; who reads is in nobody's way.</summary>
    private FileStream TakeTurn()
    {
        for (var began = Stopwatch.GetTimestamp(); ; Thread.Sleep(Pause))
        {
            try
            {
                return Alone(".appending");
            }
            catch (IOException e) when (e is not (FileNotFoundException or DirectoryNotFoundException)
                && Stopwatch.GetElapsedTime(began) < LongestWait)
            {
                // Not for long.
            }
        }
    }

    /// <summary>Opens a file that no other process has open in this way; it is let go of however one ends.</summary>
    private FileStream Alone(string name) =>
        new(Path.Combine(Folder, name), FileMode.OpenOrCreate, FileAccess.Write, FileShare.None);

    private IEnumerable<Row> ReadDay(DateTime day)
    {
        using var file = new FileStream(PathOf(day), FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
        using var csv = CsvReader.Create(file, Reading);
        csv.ReadHeader();
        // By name, so that a spreadsheet may have moved columns.
        var places = Array.ConvertAll(Columns, name => csv.TryGetFieldIndex(name, out var i) ? i : -1);
        if (places[0] < 0 || places[1] < 0)
            throw new UsageException($"{PathOf(day)} is no recording: its first line must name "
                + $"{string.Join(',', Columns)}");
        while (csv.Read())
            if (RowOf(column => places[column] < 0 ? "" : csv.GetString(places[column])) is { } row) yield return row;
    }

    private static Row? RowOf(Func<int, string> field)
    {
        if (!DateTimeOffset.TryParse(
                field(0), CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var time)
            || !Enum.TryParse<RowKind>(field(1), ignoreCase: true, out var kind)) return null;
        return new Row(time, kind, field(2))
        {
            Ready = Long(3), InHand = Long(4), Scheduled = Long(5), DeadLetters = Long(6), OldestSeconds = Real(7),
            Came = Long(8), Handled = Long(9), Failed = Long(10), SetAside = Long(11), Workers = (int?)Long(12),
            Handlers = (int?)Long(13), Busy = Real(14), EverySeconds = Real(15), Text = field(16),
        };

        long? Long(int column) =>
            long.TryParse(field(column), NumberStyles.None, CultureInfo.InvariantCulture, out var number)
                ? number : null;

        double? Real(int column) => double.TryParse(
            field(column), NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var number)
            ? number : null;
    }
}
