namespace GentleCourier.Amqp.Types;

/// <summary>How values of one .NET type are written to the wire and read from it, with their constructor.</summary>
internal interface IWire<T>
{
    void Write(WireBuffer to, T value);

    /// <exception cref="DecodeException">Something else stands there.</exception>
    T Read(ref WireReader from);
}

/// <summary>Reads a value whose constructor has been read.</summary>
internal delegate T ReadItem<out T>(ref WireReader from);

/// <summary>One way in which a primitive type may stand on the wire.</summary>
internal readonly record struct Form<T>(byte Code, ReadItem<T> Read);

/// <summary>
/// A primitive type (part 1, section 1.6), as values that are looked at, and not by their static type.
/// </summary>
internal abstract class WireType(string name, byte code)
{
    public string Name { get; } = name;

    /// <summary>The constructor by which all items of an array are written: the widest.</summary>
    public byte Code { get; } = code;

    public abstract Type Clr { get; }

    public abstract IEnumerable<byte> Codes { get; }

    public abstract void WriteObject(WireBuffer to, object value);

    public abstract object ReadObject(byte code, ref WireReader from);

    /// <summary>The items of an array, which share one constructor.</summary>
    public abstract Array ReadItems(byte code, int count, ref WireReader from);

    /// <returns>How many.</returns>
    public abstract int WriteItems(WireBuffer to, Array items);
}

/// <summary>A primitive type, described once: how it is written, and every way in which it may come.</summary>
/// <param name="name">As the specification calls it.</param>
/// <param name="code">The widest constructor.</param>
/// <param name="writeItem">Writes a value after that constructor.</param>
/// <param name="write">Writes constructor and value in as few bytes as it takes; null: by the widest.</param>
/// <param name="forms">Every way in which it may come.</param>
internal sealed class WireType<T>(
    string name, byte code, Action<WireBuffer, T> writeItem, Action<WireBuffer, T>? write,
    params Form<T>[] forms) : WireType(name, code), IWire<T>
    where T : notnull
{
    public override Type Clr => typeof(T);

    public override IEnumerable<byte> Codes => forms.Select(e => e.Code);

    public void Write(WireBuffer to, T value)
    {
        if (write is not null)
        {
            write(to, value);
            return;
        }
        to.Byte(Code);
        writeItem(to, value);
    }

    public T Read(ref WireReader from) => Read(from.Byte(), ref from);

    public override void WriteObject(WireBuffer to, object value) => Write(to, (T)value);

    public override object ReadObject(byte code, ref WireReader from) => Read(code, ref from);

    public override Array ReadItems(byte code, int count, ref WireReader from)
    {
        var items = new T[count];
        for (var i = 0; i < count; i++) items[i] = Read(code, ref from);
        return items;
    }

    public override int WriteItems(WireBuffer to, Array items)
    {
        to.Byte(Code);
        foreach (var item in (T[])items) writeItem(to, item);
        return items.Length;
    }

    private T Read(byte found, ref WireReader from)
    {
        foreach (var form in forms)
            if (form.Code == found) return form.Read(ref from);
        throw new DecodeException($"a {Name} should stand here, but a value of constructor 0x{found:x2} does");
    }
}
