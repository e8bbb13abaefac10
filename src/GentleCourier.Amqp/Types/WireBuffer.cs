using System.Buffers;
using System.Buffers.Binary;

namespace GentleCourier.Amqp.Types;

/// <summary>
/// Where things are written: one stretch of pooled memory that grows, since sizes stand before what they measure and
/// are known only afterwards. Not thread-safe.
/// </summary>
internal sealed class WireBuffer : IDisposable
{
    // Of a compound with wide sizes, and with narrow ones: constructor, size, count.
    private const int WideHead = 9, NarrowHead = 3;

    private byte[] bytes;

    public WireBuffer(int capacity = 4096) => bytes = ArrayPool<byte>.Shared.Rent(capacity);

    public int Length { get; private set; }

    public int Capacity => bytes.Length;

    public ReadOnlySpan<byte> Written => bytes.AsSpan(0, Length);

    public ReadOnlyMemory<byte> Memory => bytes.AsMemory(0, Length);

    /// <summary>Room for so many bytes, which count as written.</summary>
    public Span<byte> Take(int count)
    {
        if (bytes.Length - Length < count) Grow(count);
        var taken = bytes.AsSpan(Length, count);
        Length += count;
        return taken;
    }

    /// <summary>Forgets what lies behind a place.</summary>
    public void CutTo(int length) => Length = length;

    public void Byte(byte value) => Take(1)[0] = value;

    public void UInt16(ushort value) => BinaryPrimitives.WriteUInt16BigEndian(Take(2), value);

    public void UInt32(uint value) => BinaryPrimitives.WriteUInt32BigEndian(Take(4), value);

    public void UInt64(ulong value) => BinaryPrimitives.WriteUInt64BigEndian(Take(8), value);

    public void Bytes(ReadOnlySpan<byte> value) => value.CopyTo(Take(value.Length));

    /// <summary>Writes a number over what stands at a place.</summary>
    public void UInt32At(int place, uint value) =>
        BinaryPrimitives.WriteUInt32BigEndian(bytes.AsSpan(place, 4), value);

    /// <summary>A list, map or array begins; what follows is in it, until <see cref="End"/>.</summary>
    /// <returns>Where it begins.</returns>
    public int Begin()
    {
        var start = Length;
        Take(WideHead);
        return start;
    }

    /// <summary>A compound ends: it gets its constructor, size and count, narrow ones where they suffice.</summary>
    /// <param name="start">Where it begins.</param>
    /// <param name="wide">Its constructor with wide sizes; the narrow one lies 16 below.</param>
    /// <param name="count">How many items it has; of a map, keys and values.</param>
    public void End(int start, byte wide, int count)
    {
        var body = Length - start - WideHead;
        if (wide == FormatCode.List32 && count == 0)
        {
            bytes[start] = FormatCode.ListEmpty;
            Length = start + 1;
        }
        else if (body <= byte.MaxValue - 1 && count <= byte.MaxValue)
        {
            bytes.AsSpan(start + WideHead, body).CopyTo(bytes.AsSpan(start + NarrowHead));
            (bytes[start], bytes[start + 1], bytes[start + 2]) = ((byte)(wide - 0x10), (byte)(body + 1), (byte)count);
            Length = start + NarrowHead + body;
        }
        else
        {
            bytes[start] = wide;
            UInt32At(start + 1, (uint)body + 4);
            UInt32At(start + 5, (uint)count);
        }
    }

    public void Dispose()
    {
        if (bytes.Length > 0) ArrayPool<byte>.Shared.Return(bytes);
        (bytes, Length) = ([], 0);
    }

    private void Grow(int count)
    {
        var larger = ArrayPool<byte>.Shared.Rent(Math.Max(checked(Length + count), (int)Math.Min(Array.MaxLength,
            2L * bytes.Length)));
        Written.CopyTo(larger);
        if (bytes.Length > 0) ArrayPool<byte>.Shared.Return(bytes);
        bytes = larger;
    }
}
