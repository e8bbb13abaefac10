using System.Buffers;
using System.Text.Json;
using System.Text.Unicode;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Events;

/// <summary>
/// What is kept of a message that is no event that can be read, as JSON: what it has of an event's attributes, its body
/// and, as <c>amqp</c>, all else that can be read of it. So whoever finds it knows whose it is, and can repair it.
/// </summary>
internal static class Unread
{
    /// <param name="bytes">The message, or its head.</param>
    /// <param name="message">Where its sections lie, as far as they are sound.</param>
    /// <param name="whole">How many bytes it has, where these are not all.</param>
    public static byte[] KeepOf(ReadOnlyMemory<byte> bytes, in Message message, long? whole)
    {
        var buffer = new ArrayBufferWriter<byte>(bytes.Length + 1024);
        using var writer = new Utf8JsonWriter(buffer, new JsonWriterOptions { SkipValidation = true });
        writer.WriteStartObject();
        WriteAttributes(writer, message);
        var properties = PropertiesOf(message);
        if (properties.ContentType is { } type) writer.WriteString("datacontenttype"u8, type.Text);
        // A part of its data would pass for all of it.
        var isWhole = whole is null && message.Problem is null;
        if (isWhole && message is { BodySection: Section.Data, Body.IsEmpty: false })
            WriteBody(writer, message.Body.Span, properties);
        writer.WriteStartObject("amqp"u8);
        WriteProperties(writer, properties);
        WriteOthers(writer, message);
        if (message.BodySection is Section.Value or Section.Sequence)
        {
            var body = new WireReader(message.Body.Span);
            WriteSafely(writer, "body", ref body);
        }
        if (whole is { } size) writer.WriteNumber("size"u8, size);
        if (!isWhole) writer.WriteBase64String(whole is null ? "message_base64"u8 : "head_base64"u8, bytes.Span);
        writer.WriteEndObject();
        writer.WriteEndObject();
        writer.Flush();
        return buffer.WrittenSpan.ToArray();
    }

    /// <summary>A text can be read by people as well.</summary>
    private static void WriteBody(Utf8JsonWriter writer, ReadOnlySpan<byte> body, Properties properties)
    {
        if (properties.ContentType is { } type && !CourierEvent.IsJson(type.Text) && Utf8.IsValid(body))
            writer.WriteString("data"u8, body);
        else
            writer.WriteBase64String("data_base64"u8, body);
    }

    private static void WriteAttributes(Utf8JsonWriter writer, in Message message) => ForEach(
        message, (scoped name, ref from) =>
        {
            var attribute = CloudEventNames.AttributeOf(name);
            if (attribute.IsEmpty) WireValue.Skip(ref from);
            else WriteSafely(writer, System.Text.Encoding.ASCII.GetString(attribute), ref from);
        });

    /// <summary>The application properties that are nobody's attributes.</summary>
    private static void WriteOthers(Utf8JsonWriter writer, in Message message)
    {
        writer.WriteStartObject("application-properties"u8);
        ForEach(message, (scoped name, ref from) =>
        {
            if (!CloudEventNames.AttributeOf(name).IsEmpty) WireValue.Skip(ref from);
            else WriteSafely(writer, System.Text.Encoding.UTF8.GetString(name), ref from);
        });
        writer.WriteEndObject();
    }

    private delegate void Take(scoped ReadOnlySpan<byte> name, ref WireReader from);

    private static void ForEach(in Message message, Take take)
    {
        if (message.ApplicationProperties.IsEmpty) return;
        try
        {
            var reader = new WireReader(message.ApplicationProperties.Span);
            if (reader.Peek() is not (FormatCode.Map8 or FormatCode.Map32)) return;
            var inside = reader.Enter(reader.Byte(), out var count);
            for (var i = 0; i < count; i += 2)
            {
                var name = CloudEventNames.ReadKey(ref inside);
                take(name, ref inside);
            }
        }
        catch (DecodeException)
        {
            // What stands before it has been kept.
        }
    }

    private static void WriteSafely(Utf8JsonWriter writer, string name, ref WireReader from)
    {
        var rest = from.Rest;
        WireValue.Skip(ref from);
        var value = new WireReader(rest);
        writer.WritePropertyName(name);
        try
        {
            WireJson.Copy(ref value, writer);
        }
        catch (DecodeException)
        {
            writer.WriteStringValue("(not sound)");
        }
    }

    private static Properties PropertiesOf(in Message message)
    {
        var properties = new Properties();
        if (message.Properties.IsEmpty) return properties;
        try
        {
            var reader = new WireReader(message.Properties.Span);
            Properties.Shape.ReadFields(ref reader, properties);
        }
        catch (DecodeException)
        {
            // What stands before it has been read.
        }
        return properties;
    }

    private static void WriteProperties(Utf8JsonWriter writer, Properties of)
    {
        writer.WriteStartObject("properties"u8);
        ReadOnlySpan<(string Name, object? Value)> all =
        [
            ("message-id", of.MessageId), ("user-id", of.UserId), ("to", of.To), ("subject", of.Subject),
            ("reply-to", of.ReplyTo), ("correlation-id", of.CorrelationId), ("content-type", of.ContentType),
            ("content-encoding", of.ContentEncoding), ("absolute-expiry-time", of.AbsoluteExpiryTime),
            ("creation-time", of.CreationTime), ("group-id", of.GroupId), ("group-sequence", of.GroupSequence),
            ("reply-to-group-id", of.ReplyToGroupId),
        ];
        foreach (var (name, value) in all)
        {
            if (value is null) continue;
            writer.WritePropertyName(name);
            WireJson.Write(writer, value);
        }
        writer.WriteEndObject();
    }
}
