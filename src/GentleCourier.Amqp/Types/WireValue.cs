namespace GentleCourier.Amqp.Types;

/// <summary>
/// Values of whatever type: null, primitive ones as their .NET classes, lists as <c>object?[]</c>, maps as
/// <see cref="WireMap"/>, arrays as typed arrays, and <see cref="Described"/> ones.
/// </summary>
internal sealed class WireValue : IWire<object?>
{
    /// <summary>How deep values may lie in each other.</summary>
    private const int Deepest = 32;

    /// <summary>How many items an array may have whose items take no byte.</summary>
    private const int MostEmptyItems = 1024;

    public static readonly WireValue Any = new();

    /// <summary>
    /// Primitive values alone: what has items in it may take a hundred times the memory of its bytes.
    /// </summary>
    public static readonly IWire<object?> Plain = new PlainWire();

    public static readonly IWire<WireMap?> Map = new OfClass<WireMap>("map");

    private WireValue()
    {
    }

    public void Write(WireBuffer to, object? value)
    {
        switch (value)
        {
            case null:
                to.Byte(FormatCode.Null);
                break;
            case Described described:
                to.Byte(FormatCode.Described);
                Write(to, described.Descriptor);
                Write(to, described.Value);
                break;
            case WireMap map:
                WriteMap(to, map);
                break;
            case object?[] list when list.GetType() == typeof(object[]):
                var start = to.Begin();
                foreach (var item in list) Write(to, item);
                to.End(start, FormatCode.List32, list.Length);
                break;
            case Array array:
                WriteArray(to, array);
                break;
            default:
                TypeOf(value.GetType()).WriteObject(to, value);
                break;
        }
    }

    public object? Read(ref WireReader from) => Read(ref from, Deepest);

    /// <summary>Steps over a value, whatever it is, without reading it.</summary>
    public static void Skip(ref WireReader from)
    {
        // Those that are described have two values behind them: no recursion, however many.
        for (var left = 1L; left > 0; left--)
        {
            var code = from.Byte();
            if (code == FormatCode.Described) left += 2;
            else from.Bytes(Width(code, ref from));
        }
    }

    private static uint Width(byte code, ref WireReader from) => (code & 0xf0) switch
    {
        0x40 => 0,
        0x50 => 1,
        0x60 => 2,
        0x70 => 4,
        0x80 => 8,
        0x90 => 16,
        0xa0 or 0xc0 or 0xe0 => from.Byte(),
        0xb0 or 0xd0 or 0xf0 => from.UInt32(),
        _ => throw Unknown(code),
    };

    private object? Read(ref WireReader from, int depth)
    {
        if (depth == 0) throw new DecodeException($"values lie in each other more than {Deepest} deep");
        return ReadAfter(from.Byte(), ref from, depth);
    }

    private object? ReadAfter(byte code, ref WireReader from, int depth)
    {
        switch (code)
        {
            case FormatCode.Null:
                return null;
            case FormatCode.Described:
                var descriptor = Read(ref from, depth - 1);
                return new Described(descriptor, Read(ref from, depth - 1));
            case FormatCode.ListEmpty or FormatCode.List8 or FormatCode.List32:
                var inside = from.Enter(code, out var count);
                var list = new object?[count];
                for (var i = 0; i < count; i++) list[i] = Read(ref inside, depth - 1);
                return Whole(inside, list);
            case FormatCode.Map8 or FormatCode.Map32:
                return ReadMap(code, ref from, depth);
            case FormatCode.Array8 or FormatCode.Array32:
                return ReadArray(code, ref from, depth);
            default:
                return (WireTypes.Find(code) ?? throw Unknown(code)).ReadObject(code, ref from);
        }
    }

    private WireMap ReadMap(byte code, ref WireReader from, int depth)
    {
        var inside = from.Enter(code, out var count);
        if (count % 2 != 0) throw new DecodeException("a map has a key without a value");
        var map = new WireMap();
        for (var i = 0; i < count; i += 2)
        {
            var key = Read(ref inside, depth - 1) ?? throw new DecodeException("a map has null as a key");
            if (!map.TryAdd(key, Read(ref inside, depth - 1)))
                throw new DecodeException($"a map has the key {key} twice");
        }
        return Whole(inside, map);
    }

    private Array ReadArray(byte code, ref WireReader from, int depth)
    {
        var inside = from.Enter(code, out var count);
        var constructor = inside.Byte();
        // Each item takes a byte at the least, but for those whose constructor says all.
        var most = (constructor & 0xf0) == 0x40 ? MostEmptyItems : inside.Remaining;
        if (count > most) throw new DecodeException($"an array says it has {count} items, but has {most} bytes");
        Array items = constructor switch
        {
            _ when WireTypes.Find(constructor) is { } type => type.ReadItems(constructor, count, ref inside),
            FormatCode.Described => ReadDescribed(ref inside, count, depth),
            FormatCode.ListEmpty or FormatCode.List8 or FormatCode.List32 =>
                ReadItems<object?[]>(constructor, count, ref inside, depth),
            FormatCode.Map8 or FormatCode.Map32 => ReadItems<WireMap>(constructor, count, ref inside, depth),
            FormatCode.Array8 or FormatCode.Array32 => ReadItems<Array>(constructor, count, ref inside, depth),
            _ => throw Unknown(constructor),
        };
        return Whole(inside, items);
    }

    private Described[] ReadDescribed(ref WireReader from, int count, int depth)
    {
        var descriptor = Read(ref from, depth - 1);
        var constructor = from.Byte();
        var items = new Described[count];
        for (var i = 0; i < count; i++) items[i] = new(descriptor, ReadAfter(constructor, ref from, depth - 1));
        return items;
    }

    private T[] ReadItems<T>(byte constructor, int count, ref WireReader from, int depth) where T : class
    {
        if (depth == 1) throw new DecodeException($"values lie in each other more than {Deepest} deep");
        var items = new T[count];
        for (var i = 0; i < count; i++) items[i] = (T)ReadAfter(constructor, ref from, depth - 1)!;
        return items;
    }

    private static T Whole<T>(in WireReader inside, T value) => inside.Remaining == 0 ? value
        : throw new DecodeException($"a list, map or array has {inside.Remaining} bytes behind its last item");

    private void WriteMap(WireBuffer to, WireMap map)
    {
        var start = to.Begin();
        foreach (var (key, value) in map)
        {
            Write(to, key);
            Write(to, value);
        }
        to.End(start, FormatCode.Map32, map.Count * 2);
    }

    private static void WriteArray(WireBuffer to, Array array)
    {
        var start = to.Begin();
        var count = TypeOf(array.GetType().GetElementType()!).WriteItems(to, array);
        to.End(start, FormatCode.Array32, count);
    }

    private static WireType TypeOf(Type clr) => WireTypes.Find(clr)
        ?? throw new NotSupportedException($"AMQP 1.0 has no type for {clr.Name}");

    private static DecodeException Unknown(byte code) => new($"there is no constructor 0x{code:x2}");

    private sealed class PlainWire : IWire<object?>
    {
        public void Write(WireBuffer to, object? value) => Any.Write(to, value);

        public object? Read(ref WireReader from) => from.Peek() is FormatCode.Null or >= 0x50 and < 0xc0
            or FormatCode.True or FormatCode.False or FormatCode.UIntZero or FormatCode.ULongZero
            ? Any.Read(ref from)
            : throw new DecodeException($"a plain value should stand here, not one of constructor 0x{from.Peek():x2}");
    }

    /// <summary>Values of one class among them, or null.</summary>
    private sealed class OfClass<T>(string name) : IWire<T?> where T : class
    {
        public void Write(WireBuffer to, T? value) => Any.Write(to, value);

        public T? Read(ref WireReader from) => Any.Read(ref from) switch
        {
            null => null,
            T value => value,
            _ => throw new DecodeException($"a {name} should stand here, but something else does"),
        };
    }
}
