using GentleCourier.Watching;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary>Kept events by what is the matter with them; however many there are, a line a cause is in memory.</summary>
internal sealed class CauseList
{
    private readonly Dictionary<FailureCause, Seen> causes = [];

    public long Count { get; private set; }

    public void Add(Kept kept)
    {
        Count++;
        var (count, first, last) = causes.GetValueOrDefault(kept.Cause, new(0, kept.Since, kept.Since));
        causes[kept.Cause] =
            new(count + 1, kept.Since < first ? kept.Since : first, kept.Since > last ? kept.Since : last);
    }

    /// <summary>
    /// The most frequent first. What is the matter has a line of its own, however wide the terminal is.
    /// </summary>
    public void Print()
    {
        var counts = causes.Count == 0 ? 0 : causes.Values.Max(c => Plain.Number(c.Count).Length);
        var places = causes.Count == 0 ? 0 : causes.Keys.Max(c => c.Queue.Length);
        foreach (var (cause, (count, first, last)) in Ordered())
        {
            var head = $"{Plain.Number(count).PadLeft(counts)}×  {cause.Queue.PadRight(places)}  cause {cause.Id}  ";
            var type = cause.Type == "" ? "(unreadable)" : Plain.Line(cause.Type);
            AnsiConsole.WriteLine(head + Span(first, last));
            Plain.WriteHanging($"{"".PadLeft(counts)}   ", $"{type}: {Said(cause)}");
        }
    }

    public IEnumerable<object> ForScripts() => Ordered().Select(c => new
    {
        cause = c.Key.Id, place = c.Key.Queue, c.Key.Type, c.Key.Exception, c.Key.Message, c.Value.Count,
        c.Value.First, c.Value.Last,
    });

    private IEnumerable<KeyValuePair<FailureCause, Seen>> Ordered() =>
        causes.OrderByDescending(c => c.Value.Count).ThenBy(c => c.Key.Id, StringComparer.Ordinal);

    private readonly record struct Seen(long Count, DateTimeOffset First, DateTimeOffset Last);

    private static string Said(FailureCause cause) =>
        cause.Exception is null ? cause.Message : $"{cause.Exception}: {cause.Message}";

    private static string Span(DateTimeOffset first, DateTimeOffset last) =>
        last - first < TimeSpan.FromSeconds(1) ? Plain.Time(first)
        : Plain.InZone(first).Date == Plain.InZone(last).Date ? $"{Plain.Time(first)} to {Plain.TimeOfDay(last)}"
        : $"{Plain.Time(first)} to {Plain.Time(last)}";
}
