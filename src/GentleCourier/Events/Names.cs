namespace GentleCourier.Events;

/// <summary>What names of queues and wire types may look like.</summary>
internal static class Names
{
    public const string QueueRule =
        "1 to 100 characters: lower-case letters, digits, '.', '-' and '_', starting with a letter or digit";

    public static bool IsQueue(string? name) =>
        name is { Length: > 0 and <= 100 }
        && (char.IsAsciiLetterLower(name[0]) || char.IsAsciiDigit(name[0]))
        && name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c is '.' or '-' or '_');

    public const string WireTypeRule = "1 to 255 letters, digits, '.', '-' and '_'";

    public static bool IsWireType(string? name) =>
        name is { Length: > 0 and <= 255 } && name.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_');
}
