using System.Text;
using CsCheck;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Tests;

/// <summary>The type system (part 1).</summary>
public sealed class EncodingTests
{
    /// <summary>A value of every type, also the largest and smallest, in lists, maps, arrays and each other.</summary>
    internal static readonly WireMap EveryType = new()
    {
        { "null", null }, { "true", true }, { "false", false },
        { "ubyte", byte.MaxValue }, { "ushort", ushort.MaxValue },
        { "uint0", 0u }, { "uint small", 255u }, { "uint", uint.MaxValue },
        { "ulong0", 0ul }, { "ulong small", 255ul }, { "ulong", ulong.MaxValue },
        { "byte", sbyte.MinValue }, { "short", short.MinValue },
        { "int small", -128 }, { "int", int.MinValue }, { "long small", 127L }, { "long", long.MinValue },
        { "float", 1.5f }, { "double", double.Epsilon },
        { "decimal32", new Decimal32(0x22500005) }, { "decimal64", new Decimal64(0x2238000000000005) },
        { "decimal128", new Decimal128(new UInt128(0x2208000000000000, 5)) },
        { "char", new Rune(0x1F6A2) }, { "timestamp", new Timestamp(-1) },
        { "uuid", new Guid("00112233-4455-6677-8899-aabbccddeeff") },
        { "binary", new Binary(new byte[] { 0, 255 }) }, { "long binary", new Binary(new byte[300]) },
        { "string", "crossing \U0001F6A2 \0" }, { "long string", new string('é', 300) },
        { new Symbol("symbol"), new Symbol("amqp:accepted:list") },
            { new Symbol("s2"), new Symbol(new string('s', 300)) },
        { "list", new object?[] { 1u, null, new object?[] { "in it" }, new WireMap { { 1L, 2L } } } },
        { "empty list", Array.Empty<object?>() }, { "empty map", new WireMap() },
        { "long list", Enumerable.Repeat<object?>("text", 300).ToArray() },
        { "ints", new[] { 1, -2, int.MaxValue } }, { "symbols", new Symbol[] { "one", "two" } },
        { "strings", new[] { "one", "zwei" } }, { "uuids", new[] { Guid.Empty } }, { "bools", new[] { true, false } },
        { "many longs", Enumerable.Range(0, 300).Select(i => (long)i).ToArray() },
        { "described", new Described(new Symbol("made-up:type"), new object?[] { 1u, "two" }) },
    };

    internal static byte[] Write(object? value)
    {
        using var buffer = new WireBuffer();
        WireValue.Any.Write(buffer, value);
        return buffer.Written.ToArray();
    }

    internal static object? Read(byte[] bytes)
    {
        var reader = new WireReader(bytes);
        var value = WireValue.Any.Read(ref reader);
        return reader.Remaining == 0 ? value : throw new DecodeException("more follows");
    }

    /// <summary>Those of the specification's examples and of its tables.</summary>
    [Theory]
    [InlineData("40", null)]
    [InlineData("43", 0u)]
    [InlineData("5207", 7u)]
    [InlineData("7000000100", 256u)]
    [InlineData("44", 0ul)]
    [InlineData("54ff", -1)]
    [InlineData("71ffffff7f", -129)]
    [InlineData("5580", -128L)]
    [InlineData("41", true)]
    [InlineData("60ffff", ushort.MaxValue)]
    [InlineData("823ff0000000000000", 1.0)]
    [InlineData("a1054c69647379", "Lidsy")]
    public void Primitive_values_stand_as_the_specification_says(string hex, object? value)
    {
        var bytes = Convert.FromHexString(hex);
        Assert.Equal(hex, Convert.ToHexStringLower(Write(value)));
        Assert.Equal(value, Read(bytes));
    }

    [Fact]
    public void Every_encoding_of_a_type_is_read()
    {
        Assert.Equal(true, Read([0x56, 1]));
        Assert.Equal(0u, Read([0x70, 0, 0, 0, 0]));
        Assert.Equal(5ul, Read([0x80, 0, 0, 0, 0, 0, 0, 0, 5]));
        Assert.Equal("a", Read([0xb1, 0, 0, 0, 1, 0x61]));
        Assert.Equal(new Symbol("a"), Read([0xb3, 0, 0, 0, 1, 0x61]));
        Assert.Equal(new object?[] { null }, Read([0xd0, 0, 0, 0, 5, 0, 0, 0, 1, 0x40]));
        Assert.Equal(new[] { true, true }, Read([0xe0, 2, 2, 0x41]));
        Assert.Equal(new byte[] { 7 }, Read([0xf0, 0, 0, 0, 6, 0, 0, 0, 1, 0x50, 7]));
        Assert.Equal(new object?[][] { [null], [] }, Read([0xe0, 7, 2, 0xc0, 2, 1, 0x40, 1, 0]));
    }

    [Fact]
    public void Values_of_every_type_are_read_as_they_were_written()
    {
        var bytes = Write(EveryType);
        var read = Assert.IsType<WireMap>(Read(bytes));
        Assert.Equal(EveryType.Count, read.Count);
        Assert.Equal(Convert.ToHexString(bytes), Convert.ToHexString(Write(read)));
        foreach (var (key, value) in EveryType.Where(e => e.Value is not (WireMap or Described or object?[])))
            Assert.Equal(value, read[key]);
    }

    [Fact]
    public void What_is_written_is_read_and_skipped_whole_whatever_it_is()
    {
        var leaf = Gen.OneOf<object?>(
            Gen.Bool.Select(_ => (object?)null), Gen.Bool.Select(v => (object?)v), Gen.UInt.Select(v => (object?)v),
            Gen.Long.Select(v => (object?)v), Gen.Int.Select(v => (object?)v), Gen.Double.Select(v => (object?)v),
            Gen.String.Select(v => (object?)Sound(v)), Gen.Guid.Select(v => (object?)v),
            Gen.Byte.Array.Select(v => (object?)new Binary(v)), Gen.Long.Select(v => (object?)new Timestamp(v)),
            Gen.Int.Array.Select(v => (object?)v));
        var value = Gen.Recursive<object?>((depth, inner) => depth > 4 ? leaf : Gen.Frequency(
            (3, leaf),
            (1, inner.Array[0, 6].Select(items => (object?)items.ToArray())),
            (1, Gen.Select(Gen.ULong, inner).Select(p => (object?)new Described(p.Item1, p.Item2)))));
        value.Sample(v =>
        {
            var bytes = Write(v);
            var reader = new WireReader(bytes);
            WireValue.Skip(ref reader);
            return reader.Remaining == 0 && Write(Read(bytes)).AsSpan().SequenceEqual(bytes);
        });

        static string Sound(string text) => string.Concat(text.EnumerateRunes());
    }

    [Theory]
    [InlineData("", "1 more bytes")]
    [InlineData("70000000", "4 more bytes")]
    [InlineData("5602", "0 or 1")]
    [InlineData("a102c328", "not UTF-8")]
    [InlineData("a301ff", "not ASCII")]
    [InlineData("73110000", "4 more bytes")]
    [InlineData("7300110000", "no character")]
    [InlineData("99", "no constructor")]
    [InlineData("c0050341", "more bytes")]
    [InlineData("c0020341", "says it has 3 items")]
    [InlineData("c003014141", "behind its last item")]
    [InlineData("c10403414141", "a key without a value")]
    [InlineData("c103024041", "null as a key")]
    [InlineData("c10504a10161", "more bytes")]
    [InlineData("c1090441a1016141a10162", "twice")]
    [InlineData("d0ffffffff00000001", "more bytes")]
    [InlineData("f00000000affffffff41", "more bytes")]
    [InlineData("f000000005ffffffff41", "an array says it has")]
    [InlineData("f0000000050000ffff41", "an array says it has 65535 items")]
    [InlineData("f000000006000000ff5000", "an array says it has 255 items")]
    public void What_is_not_sound_is_refused_with_a_reason(string hex, string reason)
    {
        var error = Assert.Throws<DecodeException>(() => Read(Convert.FromHexString(hex)));
        Assert.Contains(reason, error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Depth_is_limited()
    {
        var deep = Enumerable.Repeat<byte[]>([0x00, 0x44], 100_000).SelectMany(b => b).Append<byte>(0x40).ToArray();
        Assert.Contains("deep", Assert.Throws<DecodeException>(() => Read(deep)).Message, StringComparison.Ordinal);
        var reader = new WireReader(deep);
        WireValue.Skip(ref reader);
        Assert.Equal(0, reader.Remaining);
        Assert.ThrowsAny<DecodeException>(() => Read([.. Enumerable.Repeat<byte>(0x00, 100_000)]));
    }

    [Fact]
    public void A_composite_says_no_more_than_it_has_to_and_is_read_in_every_form()
    {
        using var buffer = new WireBuffer();
        Accepted.Shape.Write(buffer, DeliveryState.Accepted);
        Assert.Equal("00532445", Convert.ToHexStringLower(buffer.Written));
        buffer.CutTo(0);
        Disposition.Shape.Write(buffer, new Disposition { IsReceiver = true, First = 1, Settled = true });
        Assert.Equal("005315c006044152014041", Convert.ToHexStringLower(buffer.Written));
    }

    [Fact]
    public void Descriptors_may_be_symbols()
    {
        using var buffer = new WireBuffer();
        buffer.Byte(FormatCode.Described);
        WireTypes.Symbol.Write(buffer, "amqp:error:list");
        WireValue.Any.Write(buffer, new object?[] { new Symbol(Conditions.NotFound), "there is none" });
        var reader = new WireReader(buffer.Written);
        Assert.Equal("amqp:not-found: there is none", AmqpError.Shape.Read(ref reader)!.ToString());
    }

    [Theory]
    [InlineData("00531dc00100", "condition of amqp:error:list is missing")]
    [InlineData("00531dc0020140", "condition of amqp:error:list is missing")]
    [InlineData("00531dc0030154ff", "condition of amqp:error:list: a symbol should stand here")]
    [InlineData("00531dc10100", "are not a list")]
    [InlineData("00531dc0050440404040", "has 3 fields, but 4 are there")]
    [InlineData("00531e45", "a amqp:error:list should stand here")]
    [InlineData("45", "a described value should stand here")]
    public void A_composite_that_is_not_sound_names_its_field(string hex, string reason)
    {
        var bytes = Convert.FromHexString(hex);
        var error = Assert.Throws<DecodeException>(() =>
        {
            var reader = new WireReader(bytes);
            AmqpError.Shape.Read(ref reader);
        });
        Assert.Contains(reason, error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Random_bytes_are_refused_or_read_and_nothing_else()
    {
        foreach (var seed in Fuzz.Seeds) Fuzz.Decoder(seed, rounds: 100_000);
    }
}
