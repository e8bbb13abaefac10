namespace GentleCourier.Publishing;

/// <summary>
/// What events are held by so that they stay in order: their partition key; where they go to one address alone, the two
/// together, so that an address that fails holds nothing for others.
/// </summary>
internal static class HeldKeys
{
    // No attribute of an event may hold it, and no address.
    private const char Between = '\u001f';

    public static string? Of(string? address, string? key) =>
        key is null || address is null ? key : $"{address}{Between}{key}";

    /// <summary>The partition key alone.</summary>
    public static string? KeyOf(string? address, string? held) =>
        held is null || address is null ? held : held[(address.Length + 1)..];
}
