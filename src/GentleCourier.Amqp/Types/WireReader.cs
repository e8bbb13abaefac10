using System.Buffers.Binary;

namespace GentleCourier.Amqp.Types;

/// <summary>
/// Reads what a peer sent, and believes nothing: whatever is wrong ends in a <see cref="DecodeException"/>.
/// </summary>
internal ref struct WireReader(ReadOnlySpan<byte> bytes)
{
    private readonly ReadOnlySpan<byte> bytes = bytes;

    public int Position { get; private set; }

    public readonly int Remaining => bytes.Length - Position;

    public readonly ReadOnlySpan<byte> Rest => bytes[Position..];

    /// <summary>The next byte, which stays the next.</summary>
    public readonly byte Peek() => Remaining > 0 ? bytes[Position] : throw TooShort(1, 0);

    public byte Byte() => Bytes(1)[0];

    public ushort UInt16() => BinaryPrimitives.ReadUInt16BigEndian(Bytes(2));

    public uint UInt32() => BinaryPrimitives.ReadUInt32BigEndian(Bytes(4));

    public ulong UInt64() => BinaryPrimitives.ReadUInt64BigEndian(Bytes(8));

    public ReadOnlySpan<byte> Bytes(uint count)
    {
        if (count > (uint)Remaining) throw TooShort(count, Remaining);
        var taken = bytes.Slice(Position, (int)count);
        Position += (int)count;
        return taken;
    }

    /// <summary>Enters a list or a map whose constructor has been read, and steps over it.</summary>
    /// <param name="constructor">Its constructor.</param>
    /// <param name="count">How many items are in it: each takes a byte at the least, so no more than bytes.</param>
    public WireReader Enter(byte constructor, out int count)
    {
        count = 0;
        if (constructor == FormatCode.ListEmpty) return default;
        var isNarrow = (constructor & 0xf0) is 0xc0 or 0xe0;
        var inside = new WireReader(Bytes(isNarrow ? Byte() : UInt32()));
        var said = isNarrow ? inside.Byte() : inside.UInt32();
        // The items of an array may take nothing; those are bounded by who reads them.
        if ((constructor & 0xf0) is 0xc0 or 0xd0 && said > (uint)inside.Remaining)
            throw new DecodeException($"a list or map says it has {said} items, but has {inside.Remaining} bytes");
        if (said > int.MaxValue) throw new DecodeException($"an array says it has {said} items");
        count = (int)said;
        return inside;
    }

    private static DecodeException TooShort(uint wanted, int left) =>
        new($"{wanted} more bytes should follow, but {left} do");
}
