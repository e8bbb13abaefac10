using System.Buffers;
using System.Buffers.Binary;
using System.Runtime.InteropServices;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;

namespace GentleCourier.Events;

/// <summary>
/// What an event says, in eight bytes: the beginning of a SHA-256 of its type and its data. Two that say the same have
/// the same: names of an object in any order, numbers by their value, texts however they are escaped. When it was
/// published, and in which trace, does not count.
/// </summary>
internal static class DataHash
{
    public static long Of(CourierEvent @event)
    {
        var text = new ArrayBufferWriter<byte>(256);
        Text(text, @event.Type);
        if (!@event.HasJsonData || !TryWrite(text, @event.Data)) text.Write(@event.Data.Span);
        return BinaryPrimitives.ReadInt64BigEndian(SHA256.HashData(text.WrittenSpan));
    }

    private static bool TryWrite(ArrayBufferWriter<byte> to, ReadOnlyMemory<byte> json)
    {
        try
        {
            using var document = JsonDocument.Parse(json);
            Value(to, document.RootElement);
            return true;
        }
        catch (JsonException)
        {
            return false;
        }
    }

    private static void Value(ArrayBufferWriter<byte> to, JsonElement value)
    {
        to.Write([(byte)value.ValueKind]);
        switch (value.ValueKind)
        {
            case JsonValueKind.Object:
                foreach (var member in value.EnumerateObject().OrderBy(m => m.Name, StringComparer.Ordinal))
                {
                    Text(to, member.Name);
                    Value(to, member.Value);
                }
                to.Write("}"u8);
                break;
            case JsonValueKind.Array:
                foreach (var item in value.EnumerateArray()) Value(to, item);
                to.Write("]"u8);
                break;
            case JsonValueKind.String:
                Text(to, value.GetString()!);
                break;
            case JsonValueKind.Number:
                Number(to, JsonMarshal.GetRawUtf8Value(value));
                break;
        }
    }

    private static void Text(ArrayBufferWriter<byte> to, string text)
    {
        BinaryPrimitives.WriteInt32BigEndian(to.GetSpan(4), text.Length);
        to.Advance(4);
        Encoding.UTF8.GetBytes(text, to);
    }

    /// <summary>
    /// As a whole number without a 0 at its end, and a power of ten: exact, however many digits there are.
    /// </summary>
    private static void Number(ArrayBufferWriter<byte> to, ReadOnlySpan<byte> number)
    {
        var isNegative = number[0] == '-';
        if (isNegative) number = number[1..];
        var power = 0L;
        if (number.IndexOfAny((byte)'e', (byte)'E') is var e and >= 0)
        {
            // One that no number of this world has counts as the largest.
            if (!long.TryParse(number[(e + 1)..], out power) || Math.Abs(power) > int.MaxValue)
                power = number[e + 1] == '-' ? int.MinValue : int.MaxValue;
            number = number[..e];
        }
        var point = number.IndexOf((byte)'.');
        if (point >= 0) power -= number.Length - point - 1;
        byte[] digits = point < 0 ? [.. number] : [.. number[..point], .. number[(point + 1)..]];
        var all = digits.AsSpan().TrimStart((byte)'0');
        var significant = all.TrimEnd((byte)'0');
        power += all.Length - significant.Length;
        if (significant.IsEmpty) (isNegative, power) = (false, 0);
        Text(to, $"{(isNegative ? "-" : "")}{Encoding.ASCII.GetString(significant)}e{power}");
    }
}
