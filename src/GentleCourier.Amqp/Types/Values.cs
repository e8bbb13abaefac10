using System.Collections;
using System.Globalization;

namespace GentleCourier.Amqp.Types;

/// <summary>A symbolic value from a constrained domain: ASCII (part 1, section 1.6.21).</summary>
internal readonly record struct Symbol(string Text)
{
    public static implicit operator Symbol(string text) => new(text);

    public override string ToString() => Text;
}

/// <summary>
/// Milliseconds since the Unix epoch; may lie outside of what .NET's calendar knows (section 1.6.17).
/// </summary>
internal readonly record struct Timestamp(long Milliseconds)
{
    private static readonly long First = DateTimeOffset.MinValue.ToUnixTimeMilliseconds();
    private static readonly long Last = DateTimeOffset.MaxValue.ToUnixTimeMilliseconds();

    /// <summary>Null, where .NET's calendar does not reach.</summary>
    public DateTimeOffset? Time => Milliseconds < First || Milliseconds > Last
        ? null : DateTimeOffset.FromUnixTimeMilliseconds(Milliseconds);

    public override string ToString() =>
        Time?.ToString("O", CultureInfo.InvariantCulture) ?? $"{Milliseconds} ms after 1970";
}

/// <summary>IEEE 754-2008 decimal32, as its bits: nothing here reckons with it (section 1.6.13).</summary>
internal readonly record struct Decimal32(uint Bits);

/// <summary>IEEE 754-2008 decimal64, as its bits (section 1.6.14).</summary>
internal readonly record struct Decimal64(ulong Bits);

/// <summary>IEEE 754-2008 decimal128, as its bits (section 1.6.15).</summary>
internal readonly record struct Decimal128(UInt128 Bits);

/// <summary>A sequence of octets (section 1.6.19); two are equal by what is in them.</summary>
internal readonly struct Binary(ReadOnlyMemory<byte> bytes) : IEquatable<Binary>
{
    public ReadOnlyMemory<byte> Bytes { get; } = bytes;

    public bool Equals(Binary other) => Bytes.Span.SequenceEqual(other.Bytes.Span);

    public override bool Equals(object? obj) => obj is Binary other && Equals(other);

    public override int GetHashCode()
    {
        var hash = new HashCode();
        hash.AddBytes(Bytes.Span);
        return hash.ToHashCode();
    }

    public override string ToString() => Convert.ToHexStringLower(Bytes.Span);
}

/// <summary>A value of a type that is not among the primitive ones: a descriptor says which (section 1.2).</summary>
internal sealed record Described(object? Descriptor, object? Value);

/// <summary>A map (section 1.6.23): in the order in which it was written, without two equal keys.</summary>
internal sealed class WireMap : IEnumerable<KeyValuePair<object, object?>>
{
    private readonly Dictionary<object, object?> entries = [];

    public int Count => entries.Count;

    public object? this[object key] => entries.GetValueOrDefault(key);

    /// <exception cref="ArgumentException">The key is there.</exception>
    public void Add(object key, object? value) => entries.Add(key, value);

    public bool TryAdd(object key, object? value) => entries.TryAdd(key, value);

    public IEnumerator<KeyValuePair<object, object?>> GetEnumerator() => entries.GetEnumerator();

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}

/// <summary>Bytes that are not what the specification says; the message says what is wrong with them.</summary>
internal sealed class DecodeException(string message, Exception? inner = null) : Exception(message, inner);
