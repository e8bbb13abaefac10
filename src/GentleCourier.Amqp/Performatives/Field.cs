using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Performatives;

/// <summary>A field of a composite type.</summary>
internal abstract class Field<T>(string name, bool isMandatory)
{
    public string Name { get; } = name;

    public bool IsMandatory { get; } = isMandatory;

    /// <summary>Whether it need not be written.</summary>
    public abstract bool IsDefault(T owner);

    public abstract void Write(WireBuffer to, T owner);

    public abstract void Read(ref WireReader from, T owner);

    /// <summary>Gives it the value that it has where it is not written.</summary>
    public abstract void Clear(T owner);
}

/// <summary>A field whose values are of one type.</summary>
internal sealed class Field<T, TValue>(
    string name, IWire<TValue> type, At<T, TValue> at, TValue unsaid, bool isMandatory) : Field<T>(name, isMandatory)
{
    public override bool IsDefault(T owner) =>
        !IsMandatory && EqualityComparer<TValue>.Default.Equals(at(owner), unsaid);

    public override void Write(WireBuffer to, T owner) => type.Write(to, at(owner));

    public override void Read(ref WireReader from, T owner) => at(owner) = type.Read(ref from);

    public override void Clear(T owner) => at(owner) = unsaid;
}

/// <summary>How the fields of composite types are described.</summary>
internal static class Field
{
    /// <summary>One that must be there.</summary>
    public static Field<T> Mandatory<T, TValue>(string name, IWire<TValue> type, At<T, TValue> at) =>
        new Field<T, TValue>(name, type, at, default!, isMandatory: true);

    /// <summary>One that has a value where it is not written.</summary>
    public static Field<T> Default<T, TValue>(string name, IWire<TValue> type, At<T, TValue> at, TValue unsaid) =>
        new Field<T, TValue>(name, type, at, unsaid, isMandatory: false);

    /// <summary>One that may be missing.</summary>
    public static Field<T> Optional<T, TValue>(string name, IWire<TValue> type, At<T, TValue?> at)
        where TValue : struct =>
        new Field<T, TValue?>(name, new Maybe<TValue>(type), at, null, isMandatory: false);

    /// <summary>One that may be missing, whose type has null in it.</summary>
    public static Field<T> Reference<T, TValue>(string name, IWire<TValue> type, At<T, TValue?> at)
        where TValue : class? =>
        new Field<T, TValue?>(name, type!, at, null, isMandatory: false);

    /// <summary>
    /// One that may have several values (section 1.4): one of them stands by itself, more as an array.
    /// </summary>
    public static Field<T> Multiple<T>(string name, At<T, Symbol[]> at, bool isMandatory = false) =>
        new Field<T, Symbol[]>(name, Several.Symbols, at, [], isMandatory);

    private sealed class Maybe<TValue>(IWire<TValue> type) : IWire<TValue?> where TValue : struct
    {
        public void Write(WireBuffer to, TValue? value) => type.Write(to, value!.Value);

        public TValue? Read(ref WireReader from) => type.Read(ref from);
    }

    private sealed class Several : IWire<Symbol[]>
    {
        public static readonly Several Symbols = new();

        public void Write(WireBuffer to, Symbol[] value)
        {
            if (value.Length == 1) WireTypes.Symbol.Write(to, value[0]);
            else WireValue.Any.Write(to, value);
        }

        public Symbol[] Read(ref WireReader from) => WireValue.Any.Read(ref from) switch
        {
            Symbol one => [one],
            Symbol[] several => several,
            _ => throw new DecodeException("symbols should stand here, but something else does"),
        };
    }
}
