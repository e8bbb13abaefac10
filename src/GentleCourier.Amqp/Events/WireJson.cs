using System.Text.Json;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Events;

/// <summary>Values of the wire as JSON, whatever their type: for what is only kept, or shown to people.</summary>
internal static class WireJson
{
    // In memory values may take a hundred times their bytes.
    private const int Largest = 64 * 1024;

    /// <summary>Writes the value that comes next, and steps over it.</summary>
    /// <exception cref="DecodeException">It is not sound.</exception>
    public static void Copy(ref WireReader from, Utf8JsonWriter to)
    {
        var rest = from.Rest;
        var start = from.Position;
        WireValue.Skip(ref from);
        var length = from.Position - start;
        if (length > Largest)
        {
            to.WriteStringValue($"({length} bytes)");
            return;
        }
        var value = new WireReader(rest[..length]);
        Write(to, WireValue.Any.Read(ref value));
    }

    public static void Write(Utf8JsonWriter to, object? value)
    {
        switch (value)
        {
            case null:
                to.WriteNullValue();
                break;
            case bool yes:
                to.WriteBooleanValue(yes);
                break;
            case byte or sbyte or short or ushort or int or uint or long:
                to.WriteNumberValue(Convert.ToInt64(value, null));
                break;
            case ulong number:
                to.WriteNumberValue(number);
                break;
            case float number when float.IsFinite(number):
                to.WriteNumberValue(number);
                break;
            case double number when double.IsFinite(number):
                to.WriteNumberValue(number);
                break;
            case Timestamp { Time: { } time }:
                to.WriteStringValue(time);
                break;
            case Binary binary:
                to.WriteBase64StringValue(binary.Bytes.Span);
                break;
            case WireMap map:
                to.WriteStartObject();
                foreach (var (name, item) in map)
                {
                    to.WritePropertyName(name.ToString()!);
                    Write(to, item);
                }
                to.WriteEndObject();
                break;
            case Array items:
                to.WriteStartArray();
                foreach (var item in items) Write(to, item);
                to.WriteEndArray();
                break;
            case Described described:
                Write(to, described.Value);
                break;
            default:
                to.WriteStringValue(value.ToString());
                break;
        }
    }
}
