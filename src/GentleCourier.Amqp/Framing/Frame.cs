using System.Buffers.Binary;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Framing;

/// <summary>A frame's head (part 2, section 2.3.1): size, data offset, type, and for AMQP frames the channel.</summary>
internal readonly record struct Frame(int Size, int Offset, byte Type, ushort Channel)
{
    public const byte Amqp = 0, Sasl = 1;

    /// <summary>The bytes that every frame begins with.</summary>
    public const int HeadSize = 8;

    /// <summary>What every peer must take (section 2.8.19), and the most before a connection is open.</summary>
    public const int SmallestMaximum = 512;

    /// <summary>Reads a head.</summary>
    /// <param name="head">At least <see cref="HeadSize"/> bytes.</param>
    /// <param name="largest">The largest frame that is taken, in bytes.</param>
    /// <exception cref="DecodeException">No frame of this size is taken, or it is none.</exception>
    public static Frame ReadHead(ReadOnlySpan<byte> head, int largest)
    {
        var size = BinaryPrimitives.ReadUInt32BigEndian(head);
        var offset = head[4] * 4;
        if (size < HeadSize || size > (uint)largest)
            throw new DecodeException($"a frame says it has {size} bytes; it must have {HeadSize} to {largest}");
        if (offset < HeadSize || offset > size)
            throw new DecodeException($"the data of a frame of {size} bytes cannot begin at {offset}");
        if (head[5] is not (Amqp or Sasl)) throw new DecodeException($"there is no frame of type {head[5]}");
        return new((int)size, offset, head[5], BinaryPrimitives.ReadUInt16BigEndian(head[6..]));
    }

    /// <summary>A frame begins; what follows is in it, until <see cref="End"/>.</summary>
    /// <returns>Where it begins.</returns>
    public static int Begin(WireBuffer to, byte type, ushort channel)
    {
        var start = to.Length;
        to.UInt32(0);
        to.Byte(HeadSize / 4);
        to.Byte(type);
        to.UInt16(channel);
        return start;
    }

    public static void End(WireBuffer to, int start) => to.UInt32At(start, (uint)(to.Length - start));
}
