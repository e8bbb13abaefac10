using System.Buffers;
using System.Text;
using System.Text.Json;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Types;
using GentleCourier.Events;

namespace GentleCourier.Amqp.Events;

/// <summary>
/// Makes of a message the event that it carries, as JSON in CloudEvents' format: of both modes of the CloudEvents AMQP
/// protocol binding 1.0.2. Not thread-safe.
/// </summary>
internal sealed class CloudEventReader : IDisposable
{
    private const string Media = "application/cloudevents";

    // What large events have left behind is not kept.
    private const int LargestKept = 128 * 1024;

    private ArrayBufferWriter<byte> buffer = new(1024);
    private readonly Utf8JsonWriter writer;
    private readonly Properties properties = new();

    // Names and texts are escaped, and what is data is looked at before it is written.
    public CloudEventReader() => writer = new(buffer, new JsonWriterOptions { SkipValidation = true });

    /// <summary>The event; whether it is a sound one is not looked at.</summary>
    /// <exception cref="UnreadableEventException">It is not one in either mode; the message says why.</exception>
    public byte[] Read(in Message message)
    {
        try
        {
            var type = ContentTypeOf(message);
            return type?.StartsWith(Media, StringComparison.OrdinalIgnoreCase) == true
                ? ReadStructured(message, type)
                : ReadBinary(message, type);
        }
        catch (DecodeException e)
        {
            throw new UnreadableEventException($"the message is not sound: {e.Message}", e);
        }
    }

    /// <summary>Whether its body is meant to be the whole event, so that what is wrong is in there.</summary>
    public static bool IsStructured(in Message message)
    {
        if (message.Properties.IsEmpty || message.BodySection != Section.Data) return false;
        try
        {
            var read = new Properties();
            var reader = new WireReader(message.Properties.Span);
            Properties.Shape.ReadFields(ref reader, read);
            return read is { ContentEncoding: null, ContentType.Text: { } type }
                && type.StartsWith(Media, StringComparison.OrdinalIgnoreCase);
        }
        catch (DecodeException)
        {
            return false;
        }
    }

    public void Dispose() => writer.Dispose();

    private string? ContentTypeOf(in Message message)
    {
        if (message.Properties.IsEmpty) return null;
        var reader = new WireReader(message.Properties.Span);
        Properties.Shape.ReadFields(ref reader, properties);
        if (properties.ContentEncoding is { Text.Length: > 0 } encoding)
            throw new UnreadableEventException($"its content-encoding is '{encoding}': it would have to be unpacked");
        return properties.ContentType?.Text;
    }

    private static byte[] ReadStructured(in Message message, string type)
    {
        var media = type.Split(';', 2)[0].Trim();
        if (!media.Equals($"{Media}+json", StringComparison.OrdinalIgnoreCase))
            throw new UnreadableEventException($"its content-type is '{type}': only {Media}+json can be read");
        if (type.Contains("charset", StringComparison.OrdinalIgnoreCase)
            && !type.Contains("utf-8", StringComparison.OrdinalIgnoreCase))
            throw new UnreadableEventException($"its content-type is '{type}': only UTF-8 can be read");
        return BodyOf(message).ToArray();
    }

    private byte[] ReadBinary(in Message message, string? type)
    {
        buffer.ResetWrittenCount();
        writer.Reset(buffer);
        writer.WriteStartObject();
        if (!WriteAttributes(message.ApplicationProperties.Span))
            throw new UnreadableEventException(
                "it has no attributes of a CloudEvents event among its application properties "
                + "(cloudEvents_specversion, cloudEvents_id and so on), and its content-type, "
                + $"{(type is null ? "which is missing" : $"'{type}'")}, is not {Media}+json");
        if (type is not null) writer.WriteString("datacontenttype"u8, type);
        WriteData(BodyOf(message).Span, type);
        writer.WriteEndObject();
        writer.Flush();
        var json = buffer.WrittenSpan.ToArray();
        if (buffer.Capacity > LargestKept) buffer = new(1024);
        return json;
    }

    /// <returns>Whether the attribute is there that every event has.</returns>
    private bool WriteAttributes(ReadOnlySpan<byte> map)
    {
        if (map.IsEmpty) return false;
        var reader = new WireReader(map);
        if (reader.Peek() is not (FormatCode.Map8 or FormatCode.Map32) and var other)
            throw new DecodeException($"application properties are a map, not of constructor 0x{other:x2}");
        var inside = reader.Enter(reader.Byte(), out var count);
        var isEvent = false;
        for (var i = 0; i < count; i += 2)
        {
            var name = CloudEventNames.Read(ref inside);
            if (name.IsEmpty) WireValue.Skip(ref inside);
            else WriteAttribute(name, ref inside);
            isEvent |= name.SequenceEqual("specversion"u8);
        }
        return isEvent;
    }

    private void WriteAttribute(scoped ReadOnlySpan<byte> name, ref WireReader from)
    {
        switch (from.Peek())
        {
            case FormatCode.String8:
                from.Byte();
                WriteText(name, from.Bytes(from.Byte()));
                break;
            case FormatCode.String32:
                from.Byte();
                WriteText(name, from.Bytes(from.UInt32()));
                break;
            default:
                WriteValue(name, ref from);
                break;
        }
    }

    private void WriteText(ReadOnlySpan<byte> name, ReadOnlySpan<byte> utf8)
    {
        if (!System.Text.Unicode.Utf8.IsValid(utf8))
            throw new DecodeException($"the attribute '{Encoding.ASCII.GetString(name)}' is not UTF-8");
        writer.WriteString(name, utf8);
    }

    /// <summary>What is of a type that CloudEvents does not have is kept, and is nobody's fault here.</summary>
    private void WriteValue(scoped ReadOnlySpan<byte> name, ref WireReader from)
    {
        if (from.Peek() == FormatCode.Null)
        {
            from.Byte();
            return;
        }
        writer.WritePropertyName(name);
        WireJson.Copy(ref from, writer);
    }

    private void WriteData(ReadOnlySpan<byte> data, string? type)
    {
        if (data.IsEmpty) return;
        if (type is not null && !CourierEvent.IsJson(type))
        {
            writer.WriteBase64String("data_base64"u8, data);
            return;
        }
        writer.WritePropertyName("data"u8);
        try
        {
            // Looked through: what is more than one value would become attributes.
            writer.WriteRawValue(data, skipInputValidation: false);
        }
        catch (Exception e) when (e is JsonException or ArgumentException)
        {
            throw new UnreadableEventException(
                $"its data is said to be JSON, and is not: {Words.FirstLine(e.Message)}", e);
        }
    }

    private static ReadOnlyMemory<byte> BodyOf(in Message message)
    {
        if (message.BodySection is null or Section.Data) return message.Body;
        var reader = new WireReader(message.Body.Span);
        return message.BodySection == Section.Value
            ? reader.Peek() switch
            {
                FormatCode.String8 or FormatCode.String32 =>
                    (ReadOnlyMemory<byte>)Encoding.UTF8.GetBytes(WireTypes.String.Read(ref reader)),
                FormatCode.Binary8 or FormatCode.Binary32 => WireTypes.Binary.Read(ref reader).Bytes,
                FormatCode.Null => default,
                _ => throw new UnreadableEventException("its body is a value that is neither text nor bytes"),
            }
            : throw new UnreadableEventException("its body is a sequence of values, and not data");
    }
}
