using System.Buffers;
using System.Text.Json;
using System.Text.Unicode;

namespace GentleCourier.Events;

/// <summary>CloudEvents' JSON event format. Source: CloudEvents 1.0.2, "JSON Event Format", sections 2 and 3.</summary>
internal static class EventJson
{
    private const int LargestKeptBuffer = 64 * 1024;

    // A writer and its buffer for each thread: an event is written in every business transaction, and they are the
    // larger part of what that allocates.
    [ThreadStatic]
    private static ArrayBufferWriter<byte>? keptBuffer;

    [ThreadStatic]
    private static Utf8JsonWriter? keptWriter;

    /// <summary>Writes the attributes, then the data by <paramref name="writeData"/>.</summary>
    public static byte[] Write<TState>(CourierEvent attributes, TState state, Action<Utf8JsonWriter, TState> writeData)
    {
        // Taken out while in use: a contract whose getter writes an event itself gets one of its own.
        var (buffer, writer) = (keptBuffer ?? new(1024), keptWriter);
        (keptBuffer, keptWriter) = (null, null);
        if (writer is null) writer = new Utf8JsonWriter(buffer, new JsonWriterOptions { SkipValidation = true });
        else writer.Reset(buffer);

        Write(writer, attributes);
        writeData(writer, state);
        writer.WriteEndObject();
        writer.Flush();

        var encoded = buffer.WrittenSpan.ToArray();
        if (buffer.Capacity <= LargestKeptBuffer)
        {
            buffer.ResetWrittenCount();
            (keptBuffer, keptWriter) = (buffer, writer);
        }
        return encoded;
    }

    private static void Write(Utf8JsonWriter writer, CourierEvent attributes)
    {
        writer.WriteStartObject();
        writer.WriteString("specversion"u8, "1.0"u8);
        writer.WriteString("id"u8, attributes.Id);
        writer.WriteString("source"u8, attributes.Source);
        writer.WriteString("type"u8, attributes.Type);
        if (attributes.Time is { } time) writer.WriteString("time"u8, time);
        WriteIfSaid(writer, "subject"u8, attributes.Subject);
        WriteIfSaid(writer, "partitionkey"u8, attributes.PartitionKey);
        WriteIfSaid(writer, "traceparent"u8, attributes.TraceParent);
        WriteIfSaid(writer, "tracestate"u8, attributes.TraceState);
        WriteIfSaid(writer, "correlationid"u8, attributes.CorrelationId);
        WriteIfSaid(writer, "causationid"u8, attributes.CausationId);
        if (attributes.Extensions.Count > 0)
            foreach (var (name, value) in attributes.Extensions) writer.WriteString(name, value);
        writer.WriteString("datacontenttype"u8, attributes.DataContentType);
        writer.WritePropertyName("data"u8);
    }

    /// <summary>
    /// An event with other values of its id and its time. Everything else stays as it is, byte for byte: also what the
    /// library does not know.
    /// </summary>
    public static byte[] With(ReadOnlySpan<byte> json, string? id, DateTimeOffset time)
    {
        var reader = new Utf8JsonReader(json, new JsonReaderOptions { MaxDepth = JsonRule.Deepest });
        var (changed, copied, hasTime) = (new ArrayBufferWriter<byte>(json.Length + 64), 0, false);
        reader.Read();
        var start = (int)reader.BytesConsumed;
        while (reader.Read() && reader.TokenType == JsonTokenType.PropertyName)
        {
            var (isId, isTime) = (reader.ValueTextEquals("id"u8), reader.ValueTextEquals("time"u8));
            hasTime |= isTime;
            reader.Read();
            var begin = (int)reader.TokenStartIndex;
            reader.Skip();
            if (!isTime && !(isId && id is not null)) continue;
            changed.Write(json[copied..begin]);
            changed.Write(isTime ? Quoted(time) : JsonSerializer.SerializeToUtf8Bytes(id, PlainJson.Default.String));
            copied = (int)reader.BytesConsumed;
        }
        changed.Write(json[copied..]);
        if (hasTime) return changed.WrittenSpan.ToArray();
        return [.. changed.WrittenSpan[..start], .. "\"time\":"u8, .. Quoted(time), .. ","u8,
            .. changed.WrittenSpan[start..]];

        static byte[] Quoted(DateTimeOffset time) =>
            JsonSerializer.SerializeToUtf8Bytes(time, PlainJson.Default.DateTimeOffset);
    }

    public static CourierEvent Read(ReadOnlyMemory<byte> json)
    {
        // The reader does not look whether texts are sound.
        if (!Utf8.IsValid(json.Span)) throw new UnreadableEventException("the body is not UTF-8");
        try
        {
            return ReadObject(json);
        }
        catch (JsonRuleException e)
        {
            var path = JsonRule.PathAt(json.Span, e.Place);
            throw new UnreadableEventException($"'{path}' {e.Message}", e) { Path = path };
        }
        catch (Exception e) when (e is JsonException or InvalidOperationException or FormatException)
        {
            throw new UnreadableEventException($"the body is not JSON: {FirstLine(e.Message)}", e);
        }
    }

    private static CourierEvent ReadObject(ReadOnlyMemory<byte> json)
    {
        var reader = new Utf8JsonReader(json.Span, new JsonReaderOptions { MaxDepth = JsonRule.Deepest });
        if (!reader.Read() || reader.TokenType != JsonTokenType.StartObject)
            throw new UnreadableEventException("the body is JSON, but not an object: a CloudEvents event is one");

        string? version = null, id = null, source = null, type = null, subject = null, partitionKey = null;
        string? traceParent = null, traceState = null, contentType = null, correlationId = null, causationId = null;
        Dictionary<string, string>? extensions = null;
        DateTimeOffset? time = null;
        ReadOnlyMemory<byte> data = default;

        while (reader.Read() && reader.TokenType == JsonTokenType.PropertyName)
        {
            if (reader.ValueTextEquals("data"u8)) data = Slice(json, ref reader);
            else if (reader.ValueTextEquals("id"u8)) id = Text(ref reader, "id");
            else if (reader.ValueTextEquals("source"u8)) source = Text(ref reader, "source");
            else if (reader.ValueTextEquals("type"u8)) type = Text(ref reader, "type");
            else if (reader.ValueTextEquals("time"u8)) time = Time(ref reader);
            else if (reader.ValueTextEquals("subject"u8)) subject = Text(ref reader, "subject");
            else if (reader.ValueTextEquals("partitionkey"u8)) partitionKey = Text(ref reader, "partitionkey");
            else if (reader.ValueTextEquals("traceparent"u8)) traceParent = Text(ref reader, "traceparent");
            else if (reader.ValueTextEquals("tracestate"u8)) traceState = Text(ref reader, "tracestate");
            else if (reader.ValueTextEquals("datacontenttype"u8)) contentType = Text(ref reader, "datacontenttype");
            else if (reader.ValueTextEquals("specversion"u8)) version = Text(ref reader, "specversion");
            else if (reader.ValueTextEquals("data_base64"u8)) data = Base64(ref reader);
            else if (reader.ValueTextEquals("correlationid"u8)) correlationId = Extensions.Read(ref reader);
            else if (reader.ValueTextEquals("causationid"u8)) causationId = Extensions.Read(ref reader);
            else Extensions.Keep(ref reader, ref extensions);
        }
        if (reader.Read()) throw new UnreadableEventException("more JSON follows behind the event");

        if (version != "1.0")
            throw new UnreadableEventException(
            $"'specversion' must be \"1.0\", but is {(version is null ? "missing" : $"\"{version}\"")}");
        return new CourierEvent
        {
            Id = Required(id, "id"),
            Source = Required(source, "source"),
            Type = Required(type, "type"),
            Time = time,
            Subject = Checked(subject, "subject", TextRule.LongestText),
            PartitionKey = Checked(partitionKey, "partitionkey", TextRule.LongestKey),
            TraceParent = traceParent,
            TraceState = traceState,
            CorrelationId = correlationId,
            CausationId = causationId,
            Extensions = extensions ?? CourierEvent.NoExtensions,
            DataContentType = contentType ?? "application/json",
            Data = data,
        };
    }

    private static string Required(string? value, string attribute) => string.IsNullOrEmpty(value)
        ? throw new UnreadableEventException($"the CloudEvents attribute '{attribute}' is missing or empty")
        : Checked(value, attribute, TextRule.LongestKey)!;

    private static string? Checked(string? value, string attribute, int longest) =>
        value is not null && TextRule.ProblemOf(value, longest) is { } problem
        ? throw new UnreadableEventException($"the CloudEvents attribute '{attribute}' {problem}") : value;

    private static string? Text(ref Utf8JsonReader reader, string attribute)
    {
        reader.Read();
        return reader.TokenType switch
        {
            JsonTokenType.String => reader.GetString(),
            JsonTokenType.Null => null,
            _ => throw new UnreadableEventException($"the CloudEvents attribute '{attribute}' must be a string"),
        };
    }

    private static DateTimeOffset? Time(ref Utf8JsonReader reader)
    {
        reader.Read();
        if (reader.TokenType == JsonTokenType.Null) return null;
        if (reader.TokenType == JsonTokenType.String && reader.TryGetDateTimeOffset(out var time)
            && HasZone(ref reader)) return time;
        throw new UnreadableEventException("the CloudEvents attribute 'time' must be an RFC 3339 timestamp with its "
            + "zone, such as 2026-05-01T08:00:00Z");
    }

    /// <summary>Without one, nobody knows which time it is.</summary>
    private static bool HasZone(ref Utf8JsonReader reader)
    {
        // A time, with every letter of it escaped.
        Span<byte> buffer = stackalloc byte[6 * 64];
        var time = buffer[..reader.CopyString(buffer)];
        return time[^1] is (byte)'Z' or (byte)'z' || (time[^3] == (byte)':' && time[^6] is (byte)'+' or (byte)'-');
    }

    private static ReadOnlyMemory<byte> Base64(ref Utf8JsonReader reader)
    {
        reader.Read();
        return reader.TokenType == JsonTokenType.String && reader.TryGetBytesFromBase64(out var bytes)
            ? bytes
            : throw new UnreadableEventException("'data_base64' is not base64");
    }

    private static ReadOnlyMemory<byte> Slice(ReadOnlyMemory<byte> json, ref Utf8JsonReader reader)
    {
        reader.Read();
        var start = (int)reader.TokenStartIndex;
        JsonRule.Check(ref reader);
        return json[start..(int)reader.BytesConsumed];
    }

    private static void WriteIfSaid(Utf8JsonWriter writer, ReadOnlySpan<byte> name, string? value)
    {
        if (value is not null) writer.WriteString(name, value);
    }

    private static string FirstLine(string text)
    {
        var end = text.IndexOf('\n', StringComparison.Ordinal);
        return end < 0 ? text : text[..end].TrimEnd();
    }
}
