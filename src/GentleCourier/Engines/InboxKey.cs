using System.Buffers;
using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;

namespace GentleCourier.Engines;

/// <summary>
/// By what an inbox finds an event. Most of what an inbox costs is its index, so no long texts are in it.
/// </summary>
/// <param name="Origin">Of the queue and the source, <see cref="OriginOf"/>.</param>
/// <param name="Uuid">The id, where it is a UUID.</param>
/// <param name="Name">The id, where it is none; null where it is.</param>
internal readonly record struct InboxKey(long Origin, Guid Uuid, string? Name)
{
    /// <summary>The octet in which RFC 9562, 4.1 keeps the variant, and the two that matter here.</summary>
    private const int VariantOctet = 8, Variant = 0b1100_0000, Usual = 0b1000_0000, Reserved = 0b1110_0000;

    /// <summary>
    /// 16 bytes for any id. A UUID is taken as it is, so that those which follow time stay in its order. Of any other
    /// it is the beginning of a hash, marked as a variant of UUID that does not exist: no id of one kind is taken for
    /// one of the other.
    /// </summary>
    public Guid Id
    {
        get
        {
            if (Name is null) return Uuid;
            Span<byte> hash = stackalloc byte[SHA256.HashSizeInBytes];
            Hash(Name, "", hash);
            hash[VariantOctet] |= Reserved;
            return new Guid(hash[..16], bigEndian: true);
        }
    }

    public static InboxKey Of(long origin, string id) =>
        TryReadUuid(id, out var uuid) ? new(origin, uuid, null) : new(origin, default, id);

    /// <summary>
    /// Reckoned, and not a number that somebody gives out, which a restored backup would give to another source while
    /// there still is somebody who remembers it.
    /// </summary>
    public static long OriginOf(string queue, string source)
    {
        Span<byte> hash = stackalloc byte[SHA256.HashSizeInBytes];
        Hash(queue, source, hash);
        return BinaryPrimitives.ReadInt64BigEndian(hash);
    }

    /// <summary>Only what is written as a UUID is when it is made into a text: other spellings are other ids.</summary>
    private static bool TryReadUuid(string id, out Guid uuid)
    {
        Span<char> again = stackalloc char[36];
        Span<byte> bytes = stackalloc byte[16];
        return Guid.TryParseExact(id, "D", out uuid) && uuid.TryFormat(again, out _, "D") && again.SequenceEqual(id)
            && uuid.TryWriteBytes(bytes, bigEndian: true, out _) && (bytes[VariantOctet] & Variant) == Usual;
    }

    /// <summary>Of both, and where the first ends.</summary>
    private static void Hash(string first, string second, Span<byte> to)
    {
        const int atHand = 512;
        var most = sizeof(int) + Encoding.UTF8.GetMaxByteCount(first.Length + second.Length);
        var rented = most > atHand ? ArrayPool<byte>.Shared.Rent(most) : null;
        var bytes = rented ?? stackalloc byte[atHand];
        var end = sizeof(int) + Encoding.UTF8.GetBytes(first, bytes[sizeof(int)..]);
        BinaryPrimitives.WriteInt32BigEndian(bytes, end);
        end += Encoding.UTF8.GetBytes(second, bytes[end..]);
        SHA256.HashData(bytes[..end], to);
        if (rented is not null) ArrayPool<byte>.Shared.Return(rented);
    }
}
