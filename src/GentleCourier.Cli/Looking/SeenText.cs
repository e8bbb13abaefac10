using System.Buffers;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary>How events that were looked at are shown.</summary>
internal static class SeenText
{
    private const int States = 8;

    private static readonly JsonWriterOptions Relaxed = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <summary>In two lines or three, however wide the terminal is.</summary>
    public static void PrintShort(Seen seen, DateTimeOffset now)
    {
        var margin = new string(' ', States + 1);
        var name = seen.Event is { } @event ? $"{@event.Type} {@event.Id}" : "(unreadable)";
        Plain.WriteHanging($"{seen.State,-States} ", name, seen.State switch
        {
            Seen.Refused => Plain.Wrong, Seen.Held or Seen.Later => Plain.Note, _ => Plain.Heading,
        });
        Plain.WriteHanging(margin, string.Join(", ", Facts(seen, now)));
        if (seen.LastError is { } error) Plain.WriteHanging($"{margin}last error: ", error, Plain.Wrong);
    }

    /// <summary>All of it.</summary>
    public static void PrintWhole(Seen seen, string place, DateTimeOffset now)
    {
        var grid = new Grid().AddColumn(new GridColumn().NoWrap()).AddColumn();
        void Row(string name, string? value)
        {
            if (value is not null) grid.AddRow($"[bold]{name}[/]", Plain.Cell(value));
        }

        Row("event", seen.Event?.Id ?? "(unreadable)");
        Row("type", seen.Event?.Type);
        Row("source", seen.Event?.Source);
        Row("subject", seen.Event?.Subject);
        Row("partition key", seen.Event?.PartitionKey);
        Row("time", seen.Event?.Time is { } time ? Plain.Time(time) : null);
        Row("correlation", seen.Event?.CorrelationId);
        Row("caused by", seen.Event?.CausationId);
        Row("trace", seen.Event?.TraceParent);
        foreach (var (header, value) in seen.Event?.Extensions ?? CourierEvent.NoExtensions) Row(header, value);
        Row("in", place);
        Row("state", seen.State);
        Row("worker", seen.Worker);
        Row("until", seen.Until is { } until ? $"{Plain.Time(until)}, {Plain.Until(until - now)}" : null);
        Row("since", $"{Plain.Time(seen.Since)}, {Plain.Until(seen.Since - now)}");
        Row("tried", Plain.Count(seen.Attempts, "time"));
        Row("last error", seen.LastError);
        foreach (var before in seen.History) Row("before", Plain.Before(before));
        Row("size", Plain.Count(seen.Json.Length, "byte"));
        AnsiConsole.Write(grid);
        Console.WriteLine(seen.Event is null ? "\nwhat it is:" : "\ndata:");
        Console.WriteLine(Plain.Lines(seen.Event is { HasJsonData: false, Data: { Length: var length } } other
            ? $"({Plain.Count(length, "byte")} of {other.DataContentType})"
            : Plain.Pretty(seen.Event?.Data ?? seen.Json)));
    }

    /// <summary>For programs, in one line.</summary>
    public static string Line(Seen seen, (string Kind, string Name) mark)
    {
        var line = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(line, Relaxed))
        {
            json.WriteStartObject();
            json.WriteString(mark.Kind, mark.Name);
            json.WriteString("state", seen.State);
            json.WriteString("since", Plain.Exactly(seen.Since));
            json.WriteNumber("attempts", seen.Attempts);
            if (seen.Until is { } until) json.WriteString("until", Plain.Exactly(until));
            if (seen.Worker is { } worker) json.WriteString("worker", worker);
            if (seen.LastError is { } error) json.WriteString("lastError", error);
            EventLines.WriteEvent(json, seen.Json);
            json.WriteEndObject();
        }
        return Encoding.UTF8.GetString(line.WrittenSpan);
    }

    private static IEnumerable<string> Facts(Seen seen, DateTimeOffset now)
    {
        if (seen.Worker is { } worker) yield return $"in hand of {worker}";
        if (seen.Until is { } until)
            yield return seen.State == Seen.InHand ? $"until {Plain.Time(until)}"
                : $"due {Plain.Time(until)}, {Plain.Until(until - now)}";
        yield return $"here for {Plain.Age(now - seen.Since)}";
        yield return seen.Attempts == 0 ? "not tried yet" : $"tried {Plain.Count(seen.Attempts, "time")}";
        if (seen.Event?.PartitionKey is { } key) yield return $"key {key}";
        if (seen.Event?.Subject is { } subject) yield return $"subject {subject}";
        yield return Plain.Count(seen.Json.Length, "byte");
        if (seen.History.Count > 0) yield return $"sent back {Plain.Count(seen.History.Count, "time")} before";
    }
}
