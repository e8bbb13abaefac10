namespace GentleCourier;

/// <summary>
/// Declares the wire type of a contract: the CloudEvents <c>type</c> under which its events travel. It is a stable,
/// published name such as <c>skerryline.passenger-boarded</c>; renaming or moving the class changes nothing on the
/// wire.
/// </summary>
/// <param name="name">1 to 255 characters: letters, digits, <c>.</c>, <c>-</c> and <c>_</c>.</param>
/// <param name="formerNames">
/// Names under which its events have travelled before, and that its receivers go on to handle; nothing is published
/// under them any more.
/// </param>
[AttributeUsage(AttributeTargets.Class | AttributeTargets.Struct, Inherited = false)]
public sealed class WireTypeAttribute(string name, params string[] formerNames) : Attribute
{
    /// <summary>The wire type, as written in the attribute.</summary>
    public string Name { get; } = name;

    /// <summary>The wire types that are received besides.</summary>
    public IReadOnlyList<string> FormerNames { get; } = formerNames ?? [];
}
