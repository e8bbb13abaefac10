namespace GentleCourier;

/// <summary>
/// A contract cannot be published, or a body does not fit it. The message names the contract, the field and the reason.
/// When it is thrown while an event is added to an outbox, nothing has been written.
/// </summary>
public sealed class ContractException : Exception
{
    internal ContractException(string contract, string? field, string reason, Exception? inner = null)
        : base(field is null ? $"{contract}: {reason}" : $"{contract}, field '{field}': {reason}", inner)
    {
        Contract = contract;
        Field = field;
    }

    /// <summary>The contract: its wire type where it has one, otherwise the name of its class.</summary>
    public string Contract { get; }

    /// <summary>
    /// Path of the field at fault, in the contract's JSON names (<c>passenger.card</c>, <c>stops[2]</c>); null where it
    /// is the whole.
    /// </summary>
    public string? Field { get; }
}
