using System.Buffers.Binary;
using System.Runtime.CompilerServices;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Performatives;

/// <summary>What a sender knows a delivery by: up to 32 octets (section 2.8.7), kept in place.</summary>
internal readonly struct DeliveryTag : IEquatable<DeliveryTag>
{
    private const int Longest = 32;

    private readonly Octets octets;
    private readonly byte length;

    public DeliveryTag(ReadOnlySpan<byte> tag)
    {
        if (tag.Length > Longest)
            throw new DecodeException($"a delivery tag has up to {Longest} octets, not {tag.Length}");
        length = (byte)tag.Length;
        Span<byte> to = octets;
        tag.CopyTo(to);
    }

    public static readonly IWire<DeliveryTag> Wire = new TagWire();

    public static DeliveryTag Of(uint number)
    {
        Span<byte> bytes = stackalloc byte[4];
        BinaryPrimitives.WriteUInt32BigEndian(bytes, number);
        return new(bytes);
    }

    public bool Equals(DeliveryTag other)
    {
        ReadOnlySpan<byte> mine = octets, others = other.octets;
        return mine[..length].SequenceEqual(others[..other.length]);
    }

    public override bool Equals(object? obj) => obj is DeliveryTag other && Equals(other);

    public override int GetHashCode()
    {
        var hash = new HashCode();
        ReadOnlySpan<byte> mine = octets;
        hash.AddBytes(mine[..length]);
        return hash.ToHashCode();
    }

    [InlineArray(Longest)]
    private struct Octets
    {
        private byte first;
    }

    private sealed class TagWire : IWire<DeliveryTag>
    {
        public void Write(WireBuffer to, DeliveryTag value)
        {
            ReadOnlySpan<byte> octets = value.octets;
            WireTypes.WriteBinary(to, octets[..value.length]);
        }

        public DeliveryTag Read(ref WireReader from) => new(from.Byte() switch
        {
            FormatCode.Binary8 => from.Bytes(from.Byte()),
            FormatCode.Binary32 => from.Bytes(from.UInt32()),
            var other => throw new DecodeException($"a delivery tag is binary, not of constructor 0x{other:x2}"),
        });
    }
}
