using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Events;

/// <summary>How attributes are called among a message's application properties (section 3.1.3).</summary>
internal static class CloudEventNames
{
    /// <summary>The longest name of an attribute that still makes a short text, in bytes.</summary>
    public const int LongestName = byte.MaxValue - 12;

    // What is written; what begins with the other form is read as well.
    private static ReadOnlySpan<byte> Prefix => "cloudEvents_"u8;

    private static ReadOnlySpan<byte> OtherPrefix => "cloudEvents:"u8;

    public static void Write(WireBuffer to, ReadOnlySpan<byte> name)
    {
        to.Byte(FormatCode.String8);
        to.Byte((byte)(Prefix.Length + name.Length));
        to.Bytes(Prefix);
        to.Bytes(name);
    }

    /// <summary>
    /// Reads a key. Names of attributes are lower-case letters and digits; what is no attribute, or not a sound one, is
    /// somebody else's.
    /// </summary>
    /// <returns>The attribute's name; empty where it is none.</returns>
    public static ReadOnlySpan<byte> Read(ref WireReader from) => AttributeOf(ReadKey(ref from));

    /// <summary>Reads a key, whosever it is.</summary>
    public static ReadOnlySpan<byte> ReadKey(ref WireReader from) => from.Byte() switch
    {
        FormatCode.String8 => from.Bytes(from.Byte()),
        FormatCode.String32 => from.Bytes(from.UInt32()),
        var other => throw new DecodeException($"an application property is called by constructor 0x{other:x2}"),
    };

    /// <summary>The attribute's name; empty where it is none.</summary>
    public static ReadOnlySpan<byte> AttributeOf(ReadOnlySpan<byte> key)
    {
        if (!key.StartsWith(Prefix) && !key.StartsWith(OtherPrefix)) return default;
        var name = key[Prefix.Length..];
        foreach (var letter in name)
            if (letter is not (>= (byte)'a' and <= (byte)'z' or >= (byte)'0' and <= (byte)'9')) return default;
        return name;
    }
}
