using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Performatives;

/// <summary>Where a field's value is kept in its owner.</summary>
internal delegate ref TValue At<in TOwner, TValue>(TOwner owner);

/// <summary>
/// A composite type (part 1, section 1.3): a described list whose items are fields. Each is described once, as data,
/// and written and read by that description alone.
/// </summary>
/// <param name="name">The symbolic descriptor.</param>
/// <param name="code">The numeric one; its domain, the upper half, is 0 for all of the specification's.</param>
/// <param name="fields">In the order of the specification.</param>
internal sealed class Composite<T>(string name, byte code, params Field<T>[] fields) : IWire<T?>
    where T : class, new()
{
    public string Name => name;

    public byte Code => code;

    public void Write(WireBuffer to, T? value)
    {
        if (value is null)
        {
            to.Byte(FormatCode.Null);
            return;
        }
        Descriptor.Write(to, code);
        var start = to.Begin();
        var count = fields.Length;
        // Fields at the end that say nothing are left out.
        while (count > 0 && fields[count - 1].IsDefault(value)) count--;
        for (var i = 0; i < count; i++)
        {
            if (fields[i].IsDefault(value)) to.Byte(FormatCode.Null);
            else fields[i].Write(to, value);
        }
        to.End(start, FormatCode.List32, count);
    }

    public T? Read(ref WireReader from)
    {
        if (from.Peek() == FormatCode.Null)
        {
            from.Byte();
            return null;
        }
        if (Descriptor.Read(ref from, Known) != code) throw new DecodeException($"a {name} should stand here");
        var value = new T();
        ReadFields(ref from, value);
        return value;
    }

    /// <summary>Reads what stands behind the descriptor, over whatever the owner had in it before.</summary>
    public void ReadFields(ref WireReader from, T into)
    {
        var constructor = from.Byte();
        if (constructor is not (FormatCode.ListEmpty or FormatCode.List8 or FormatCode.List32))
            throw new DecodeException($"the fields of {name} are not a list");
        var inside = from.Enter(constructor, out var count);
        if (count > fields.Length)
            throw new DecodeException($"{name} has {fields.Length} fields, but {count} are there");
        for (var i = 0; i < fields.Length; i++) ReadField(fields[i], i < count, ref inside, into);
        if (inside.Remaining > 0) throw new DecodeException($"{name} has bytes behind its last field");
    }

    private ulong? Known(string symbol) => symbol == name ? code : null;

    private void ReadField(Field<T> field, bool isThere, ref WireReader from, T into)
    {
        if (isThere && from.Peek() != FormatCode.Null)
        {
            try
            {
                field.Read(ref from, into);
                return;
            }
            catch (DecodeException e)
            {
                throw new DecodeException($"{field.Name} of {name}: {e.Message}", e);
            }
        }
        if (isThere) from.Byte();
        if (field.IsMandatory) throw new DecodeException($"{field.Name} of {name} is missing");
        field.Clear(into);
    }
}

/// <summary>What says of which type a described value is.</summary>
internal static class Descriptor
{
    public static void Write(WireBuffer to, byte code)
    {
        to.Byte(FormatCode.Described);
        to.Byte(FormatCode.ULongSmall);
        to.Byte(code);
    }

    /// <summary>Reads a descriptor, numeric or symbolic.</summary>
    /// <param name="from">Where it stands.</param>
    /// <param name="known">The numeric descriptor that stands for a symbolic one.</param>
    /// <returns>Null where it is none that is known.</returns>
    public static ulong? Read(ref WireReader from, Func<string, ulong?> known)
    {
        if (from.Byte() != FormatCode.Described) throw new DecodeException("a described value should stand here");
        switch (from.Peek())
        {
            case FormatCode.ULong or FormatCode.ULongSmall or FormatCode.ULongZero:
                return WireTypes.ULong.Read(ref from);
            case FormatCode.Symbol8 or FormatCode.Symbol32:
                return known(WireTypes.Symbol.Read(ref from).Text);
            default:
                WireValue.Skip(ref from);
                return null;
        }
    }
}
