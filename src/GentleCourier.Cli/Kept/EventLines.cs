using System.Buffers;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Unicode;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Cli;

/// <summary>
/// Kept events as lines of a file, to be repaired by hand: each the event in CloudEvents' JSON format, beside what says
/// where it belongs. What is not JSON is given in base64, to be replaced.
/// </summary>
internal static class EventLines
{
    private const string Place = "place", Since = "since", Reason = "reason", Event = "event", Raw = "base64";

    private static readonly JsonWriterOptions Relaxed = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    public static ReadOnlyMemory<byte> Write(Kept kept, KeptWords words)
    {
        var line = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(line, Relaxed))
        {
            json.WriteStartObject();
            json.WriteString(words.IdName, kept.Id);
            json.WriteString(Place, kept.Place);
            json.WriteString(Since, Plain.Exactly(kept.Since));
            json.WriteString(Reason, kept.Reason);
            WriteEvent(json, kept.Json);
            json.WriteEndObject();
        }
        return line.WrittenMemory;
    }

    /// <summary>The event; null where it cannot be read.</summary>
    public static CourierEvent? TryRead(ReadOnlyMemory<byte> json)
    {
        try
        {
            return CourierEvent.Read(json);
        }
        catch (UnreadableEventException)
        {
            return null;
        }
    }

    /// <summary>The event as it is; what is not JSON in base64.</summary>
    public static void WriteEvent(Utf8JsonWriter json, ReadOnlyMemory<byte> @event)
    {
        if (Parse(@event) is not { ValueKind: JsonValueKind.Object } parsed)
        {
            json.WriteBase64String(Raw, @event.Span);
            return;
        }
        json.WritePropertyName(Event);
        parsed.WriteTo(json);
    }

    /// <summary>One line, read.</summary>
    /// <param name="Id">Which of the kept events it is of.</param>
    /// <param name="Place">Where that was.</param>
    /// <param name="Since">Since when.</param>
    /// <param name="Event">The event, UTF-8.</param>
    internal sealed record Line(string Id, string Place, string Since, ReadOnlyMemory<byte> Event)
    {
        /// <summary>Whether it is of this one, and not of one with the same id elsewhere.</summary>
        public bool IsOf(Kept kept) => Since == Plain.Exactly(kept.Since);

        /// <summary>What it says instead of the event that is kept; null where it says the same.</summary>
        public ReadOnlyMemory<byte>? RepairOf(Kept kept)
        {
            if (Parse(kept.Json) is { } before && JsonElement.DeepEquals(before, Parse(Event)!.Value)) return null;
            return Event;
        }
    }

    /// <exception cref="FormatException">It cannot be taken; the message says why.</exception>
    public static Line Read(string text, KeptWords words)
    {
        if (Parse(System.Text.Encoding.UTF8.GetBytes(text)) is not { ValueKind: JsonValueKind.Object } members)
            throw new FormatException("it is not a JSON object");
        if (Text(members, words.IdName) is not { } id || Text(members, Since) is not { } since)
            throw new FormatException($"it has no '{words.IdName}' and '{Since}': it was not exported by "
                + $"`courier {words.Command} export`");
        if (!members.TryGetProperty(Event, out var kept))
            throw new FormatException($"its event could not be read, and has not been replaced: write '{Event}', with "
                + $"an event, instead of '{Raw}'");
        var bytes = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(bytes, Relaxed)) kept.WriteTo(json);
        var @event = bytes.WrittenMemory;
        if (@event.Length > Budget.LargestEvent)
            throw new FormatException($"its event has {Plain.Number(@event.Length)} bytes, more than anybody takes");
        try
        {
            GentleCourier.CourierEvent.Read(@event);
        }
        catch (UnreadableEventException e)
        {
            throw new FormatException($"it is not a CloudEvents event: {e.Message}", e);
        }
        return new(id, Text(members, Place) ?? "", since, @event);
    }

    private static string? Text(JsonElement members, string name) =>
        members.TryGetProperty(name, out var value) && value.ValueKind == JsonValueKind.String ? value.GetString()
        : null;

    private static JsonElement? Parse(ReadOnlyMemory<byte> json)
    {
        // The parser does not look whether texts are sound.
        if (!Utf8.IsValid(json.Span)) return null;
        try
        {
            using var document = JsonDocument.Parse(json);
            return document.RootElement.Clone();
        }
        catch (JsonException)
        {
            return null;
        }
    }
}
