using System.Text.Json;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Events;

/// <summary>
/// Writes events as messages, by the CloudEvents AMQP protocol binding 1.0.2: in binary mode (section 3.1), attributes
/// as application properties and the data as it is; what that cannot carry without changing it goes in structured mode
/// (section 3.2). Not thread-safe.
/// </summary>
internal sealed class CloudEventWriter : IDisposable
{
    private static readonly Header Durable = new() { Durable = true };

    private static readonly Symbol JsonType = "application/json", Structured = "application/cloudevents+json";

    private readonly WireBuffer attributes = new(1024);
    private readonly Properties properties = new();
    private int dataStart, dataLength;
    private byte[]? decoded;

    /// <summary>Writes an event, which is JSON in CloudEvents' format, as a message.</summary>
    public void Write(ReadOnlyMemory<byte> json, WireBuffer to, Notes notes = default)
    {
        Header.Shape.Write(to, Durable);
        notes.Write(to);
        var isBinary = TryReadAttributes(json.Span);
        if (!isBinary) properties.ContentType = Structured;
        Properties.Shape.Write(to, properties);
        if (isBinary) to.Bytes(attributes.Written);
        Message.Begin(to, Section.Data);
        WireTypes.WriteBinary(to, !isBinary ? json.Span : decoded ?? json.Span.Slice(dataStart, dataLength));
    }

    public void Dispose() => attributes.Dispose();

    /// <returns>False where binary mode cannot carry all of it.</returns>
    private bool TryReadAttributes(ReadOnlySpan<byte> json)
    {
        (dataStart, dataLength, decoded) = (0, 0, null);
        properties.ContentType = null;
        attributes.CutTo(0);
        Message.Begin(attributes, Section.ApplicationProperties);
        var (start, count, hasData) = (attributes.Begin(), 0, false);
        var reader = new Utf8JsonReader(json);
        reader.Read();
        while (reader.Read() && reader.TokenType == JsonTokenType.PropertyName)
        {
            if (reader.ValueTextEquals("data"u8))
            {
                reader.Read();
                dataStart = (int)reader.TokenStartIndex;
                reader.Skip();
                (dataLength, hasData) = ((int)reader.BytesConsumed - dataStart, true);
            }
            else if (reader.ValueTextEquals("data_base64"u8))
            {
                reader.Read();
                if (reader.TokenType != JsonTokenType.String
                    || !reader.TryGetBytesFromBase64(out decoded)) return false;
            }
            else if (reader.ValueTextEquals("datacontenttype"u8))
            {
                reader.Read();
                if (reader.TokenType == JsonTokenType.Null) continue;
                if (reader.TokenType != JsonTokenType.String) return false;
                properties.ContentType = reader.ValueTextEquals("application/json"u8) ? JsonType : reader.GetString()!;
            }
            else if (!TryWriteAttribute(ref reader, ref count))
            {
                return false;
            }
        }
        attributes.End(start, FormatCode.Map32, count);
        // A text of another type would be read as bytes.
        if (!hasData) return true;
        properties.ContentType ??= JsonType;
        return decoded is null && CourierEvent.IsJson(properties.ContentType.Value.Text);
    }

    private bool TryWriteAttribute(ref Utf8JsonReader reader, ref int count)
    {
        if (reader.ValueIsEscaped || reader.ValueSpan.Length > CloudEventNames.LongestName) return false;
        var place = attributes.Length;
        CloudEventNames.Write(attributes, reader.ValueSpan);
        reader.Read();
        switch (reader.TokenType)
        {
            case JsonTokenType.Null:
                attributes.CutTo(place);
                return true;
            case JsonTokenType.String when reader.ValueIsEscaped:
                WireTypes.String.Write(attributes, reader.GetString()!);
                break;
            case JsonTokenType.String:
                WireTypes.WriteString(attributes, reader.ValueSpan);
                break;
            case JsonTokenType.True or JsonTokenType.False:
                WireTypes.Boolean.Write(attributes, reader.GetBoolean());
                break;
            case JsonTokenType.Number when reader.TryGetInt32(out var number):
                WireTypes.Int.Write(attributes, number);
                break;
            default:
                return false;
        }
        count += 2;
        return true;
    }
}
