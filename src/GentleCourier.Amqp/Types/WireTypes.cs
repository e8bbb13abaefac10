using System.Buffers.Binary;
using System.Collections.Frozen;
using System.Text;

namespace GentleCourier.Amqp.Types;

/// <summary>
/// The primitive types of part 1, section 1.6, in its order: the one place that knows their encodings.
/// </summary>
internal static class WireTypes
{
    private static readonly UTF8Encoding Utf8 = new(false, throwOnInvalidBytes: true);

    public static readonly WireType<bool> Boolean = new(
        "boolean", FormatCode.Boolean,
        static (to, v) => to.Byte(v ? (byte)1 : (byte)0),
        static (to, v) => to.Byte(v ? FormatCode.True : FormatCode.False),
        new(FormatCode.True, static (ref _) => true),
        new(FormatCode.False, static (ref _) => false),
        new(FormatCode.Boolean, static (ref from) => from.Byte() switch
        {
            0 => false,
            1 => true,
            var other => throw new DecodeException($"a boolean is 0 or 1, not {other}"),
        }));

    public static readonly WireType<byte> UByte = new(
        "ubyte", FormatCode.UByte, static (to, v) => to.Byte(v), null,
        new Form<byte>(FormatCode.UByte, static (ref from) => from.Byte()));

    public static readonly WireType<ushort> UShort = new(
        "ushort", FormatCode.UShort, static (to, v) => to.UInt16(v), null,
        new Form<ushort>(FormatCode.UShort, static (ref from) => from.UInt16()));

    public static readonly WireType<uint> UInt = new(
        "uint", FormatCode.UInt, static (to, v) => to.UInt32(v),
        static (to, v) =>
        {
            if (v == 0) to.Byte(FormatCode.UIntZero);
            else if (v <= byte.MaxValue) Small(to, FormatCode.UIntSmall, (byte)v);
            else Wide(to, FormatCode.UInt, v);
        },
        new(FormatCode.UIntZero, static (ref _) => 0),
        new(FormatCode.UIntSmall, static (ref from) => from.Byte()),
        new(FormatCode.UInt, static (ref from) => from.UInt32()));

    public static readonly WireType<ulong> ULong = new(
        "ulong", FormatCode.ULong, static (to, v) => to.UInt64(v),
        static (to, v) =>
        {
            if (v == 0) to.Byte(FormatCode.ULongZero);
            else if (v <= byte.MaxValue) Small(to, FormatCode.ULongSmall, (byte)v);
            else Wide(to, FormatCode.ULong, v);
        },
        new(FormatCode.ULongZero, static (ref _) => 0),
        new(FormatCode.ULongSmall, static (ref from) => from.Byte()),
        new(FormatCode.ULong, static (ref from) => from.UInt64()));

    public static readonly WireType<sbyte> Byte = new(
        "byte", FormatCode.Byte, static (to, v) => to.Byte((byte)v), null,
        new Form<sbyte>(FormatCode.Byte, static (ref from) => (sbyte)from.Byte()));

    public static readonly WireType<short> Short = new(
        "short", FormatCode.Short, static (to, v) => to.UInt16((ushort)v), null,
        new Form<short>(FormatCode.Short, static (ref from) => (short)from.UInt16()));

    public static readonly WireType<int> Int = new(
        "int", FormatCode.Int, static (to, v) => to.UInt32((uint)v),
        static (to, v) =>
        {
            if (v is >= sbyte.MinValue and <= sbyte.MaxValue) Small(to, FormatCode.IntSmall, (byte)(sbyte)v);
            else Wide(to, FormatCode.Int, (uint)v);
        },
        new(FormatCode.IntSmall, static (ref from) => (sbyte)from.Byte()),
        new(FormatCode.Int, static (ref from) => (int)from.UInt32()));

    public static readonly WireType<long> Long = new(
        "long", FormatCode.Long, static (to, v) => to.UInt64((ulong)v),
        static (to, v) =>
        {
            if (v is >= sbyte.MinValue and <= sbyte.MaxValue) Small(to, FormatCode.LongSmall, (byte)(sbyte)v);
            else Wide(to, FormatCode.Long, (ulong)v);
        },
        new(FormatCode.LongSmall, static (ref from) => (sbyte)from.Byte()),
        new(FormatCode.Long, static (ref from) => (long)from.UInt64()));

    public static readonly WireType<float> Float = new(
        "float", FormatCode.Float, static (to, v) => BinaryPrimitives.WriteSingleBigEndian(to.Take(4), v), null,
        new Form<float>(
            FormatCode.Float, static (ref from) => BinaryPrimitives.ReadSingleBigEndian(from.Bytes(4))));

    public static readonly WireType<double> Double = new(
        "double", FormatCode.Double, static (to, v) => BinaryPrimitives.WriteDoubleBigEndian(to.Take(8), v), null,
        new Form<double>(
            FormatCode.Double, static (ref from) => BinaryPrimitives.ReadDoubleBigEndian(from.Bytes(8))));

    public static readonly WireType<Decimal32> Decimal32 = new(
        "decimal32", FormatCode.Decimal32, static (to, v) => to.UInt32(v.Bits), null,
        new Form<Decimal32>(FormatCode.Decimal32, static (ref from) => new(from.UInt32())));

    public static readonly WireType<Decimal64> Decimal64 = new(
        "decimal64", FormatCode.Decimal64, static (to, v) => to.UInt64(v.Bits), null,
        new Form<Decimal64>(FormatCode.Decimal64, static (ref from) => new(from.UInt64())));

    public static readonly WireType<Decimal128> Decimal128 = new(
        "decimal128", FormatCode.Decimal128,
        static (to, v) => BinaryPrimitives.WriteUInt128BigEndian(to.Take(16), v.Bits), null,
        new Form<Decimal128>(
            FormatCode.Decimal128, static (ref from) => new(BinaryPrimitives.ReadUInt128BigEndian(from.Bytes(16)))));

    /// <summary>One character, as UTF-32.</summary>
    public static readonly WireType<Rune> Char = new(
        "char", FormatCode.Char, static (to, v) => to.UInt32((uint)v.Value), null,
        new Form<Rune>(FormatCode.Char, static (ref from) => from.UInt32() is var point && Rune.IsValid(point)
            ? new Rune(point) : throw new DecodeException($"0x{point:x} is no character")));

    public static readonly WireType<Timestamp> Timestamp = new(
        "timestamp", FormatCode.Timestamp, static (to, v) => to.UInt64((ulong)v.Milliseconds), null,
        new Form<Timestamp>(FormatCode.Timestamp, static (ref from) => new((long)from.UInt64())));

    public static readonly WireType<Guid> Uuid = new(
        "uuid", FormatCode.Uuid, static (to, v) => v.TryWriteBytes(to.Take(16), bigEndian: true, out _), null,
        new Form<Guid>(FormatCode.Uuid, static (ref from) => new(from.Bytes(16), bigEndian: true)));

    public static readonly WireType<Binary> Binary = new(
        "binary", FormatCode.Binary32, static (to, v) => Wide(to, v.Bytes.Span),
        static (to, v) => WriteBinary(to, v.Bytes.Span),
        new(FormatCode.Binary8, static (ref from) => new(from.Bytes(from.Byte()).ToArray())),
        new(FormatCode.Binary32, static (ref from) => new(from.Bytes(from.UInt32()).ToArray())));

    public static readonly WireType<string> String = new(
        "string", FormatCode.String32,
        static (to, v) =>
        {
            var count = Utf8.GetByteCount(v);
            to.UInt32((uint)count);
            Utf8.GetBytes(v, to.Take(count));
        },
        static (to, v) => WriteText(to, FormatCode.String8, v, Utf8),
        new(FormatCode.String8, static (ref from) => Text(from.Bytes(from.Byte()))),
        new(FormatCode.String32, static (ref from) => Text(from.Bytes(from.UInt32()))));

    public static readonly WireType<Symbol> Symbol = new(
        "symbol", FormatCode.Symbol32,
        static (to, v) =>
        {
            to.UInt32((uint)v.Text.Length);
            Encoding.ASCII.GetBytes(v.Text, to.Take(v.Text.Length));
        },
        static (to, v) => WriteText(to, FormatCode.Symbol8, v.Text, Encoding.ASCII),
        new(FormatCode.Symbol8, static (ref from) => Ascii(from.Bytes(from.Byte()))),
        new(FormatCode.Symbol32, static (ref from) => Ascii(from.Bytes(from.UInt32()))));

    /// <summary>All of them.</summary>
    public static readonly IReadOnlyList<WireType> All =
    [
        Boolean, UByte, UShort, UInt, ULong, Byte, Short, Int, Long, Float, Double, Decimal32, Decimal64, Decimal128,
        Char, Timestamp, Uuid, Binary, String, Symbol,
    ];

    private static readonly WireType?[] ByCode = Index();

    private static readonly FrozenDictionary<Type, WireType> ByClr = All.ToFrozenDictionary(t => t.Clr);

    /// <summary>The type with this constructor; null where none has it.</summary>
    public static WireType? Find(byte code) => ByCode[code];

    /// <summary>The type whose values are of this class; null where none is.</summary>
    public static WireType? Find(Type clr) => ByClr.GetValueOrDefault(clr);

    /// <summary>Binary, without an array for it.</summary>
    public static void WriteBinary(WireBuffer to, ReadOnlySpan<byte> value)
    {
        if (value.Length <= byte.MaxValue)
        {
            Small(to, FormatCode.Binary8, (byte)value.Length);
            to.Bytes(value);
            return;
        }
        to.Byte(FormatCode.Binary32);
        Wide(to, value);
    }

    /// <summary>A string that is UTF-8 already.</summary>
    public static void WriteString(WireBuffer to, ReadOnlySpan<byte> utf8)
    {
        if (utf8.Length <= byte.MaxValue)
        {
            Small(to, FormatCode.String8, (byte)utf8.Length);
            to.Bytes(utf8);
            return;
        }
        to.Byte(FormatCode.String32);
        Wide(to, utf8);
    }

    private static WireType?[] Index()
    {
        var index = new WireType?[256];
        foreach (var type in All)
            foreach (var code in type.Codes) index[code] = type;
        return index;
    }

    private static void WriteText(WireBuffer to, byte narrow, string text, Encoding encoding)
    {
        var count = encoding.GetByteCount(text);
        if (count <= byte.MaxValue) Small(to, narrow, (byte)count);
        else Wide(to, (byte)(narrow + 0x10), (uint)count);
        encoding.GetBytes(text, to.Take(count));
    }

    private static void Small(WireBuffer to, byte code, byte value)
    {
        var bytes = to.Take(2);
        (bytes[0], bytes[1]) = (code, value);
    }

    private static void Wide(WireBuffer to, byte code, uint value)
    {
        to.Byte(code);
        to.UInt32(value);
    }

    private static void Wide(WireBuffer to, byte code, ulong value)
    {
        to.Byte(code);
        to.UInt64(value);
    }

    private static void Wide(WireBuffer to, ReadOnlySpan<byte> value)
    {
        to.UInt32((uint)value.Length);
        to.Bytes(value);
    }

    private static string Text(ReadOnlySpan<byte> bytes)
    {
        try
        {
            return Utf8.GetString(bytes);
        }
        catch (DecoderFallbackException e)
        {
            throw new DecodeException("a string is not UTF-8", e);
        }
    }

    private static Symbol Ascii(ReadOnlySpan<byte> bytes) => System.Text.Ascii.IsValid(bytes)
        ? new(Encoding.ASCII.GetString(bytes)) : throw new DecodeException("a symbol is not ASCII");
}
