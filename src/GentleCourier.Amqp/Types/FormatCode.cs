namespace GentleCourier.Amqp.Types;

/// <summary>
/// Constructors of the primitive types (part 1, sections 1.2.1 and 1.6). The high half says how wide a value is.
/// </summary>
internal static class FormatCode
{
    public const byte Described = 0x00, Null = 0x40;
    public const byte True = 0x41, False = 0x42, Boolean = 0x56;
    public const byte UByte = 0x50, UShort = 0x60, UInt = 0x70, UIntSmall = 0x52, UIntZero = 0x43;
    public const byte ULong = 0x80, ULongSmall = 0x53, ULongZero = 0x44;
    public const byte Byte = 0x51, Short = 0x61, Int = 0x71, IntSmall = 0x54, Long = 0x81, LongSmall = 0x55;
    public const byte Float = 0x72, Double = 0x82, Decimal32 = 0x74, Decimal64 = 0x84, Decimal128 = 0x94;
    public const byte Char = 0x73, Timestamp = 0x83, Uuid = 0x98;
    public const byte Binary8 = 0xa0, Binary32 = 0xb0, String8 = 0xa1, String32 = 0xb1;
    public const byte Symbol8 = 0xa3, Symbol32 = 0xb3;
    public const byte ListEmpty = 0x45, List8 = 0xc0, List32 = 0xd0, Map8 = 0xc1, Map32 = 0xd1;
    public const byte Array8 = 0xe0, Array32 = 0xf0;
}
