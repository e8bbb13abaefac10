namespace GentleCourier.Events;

/// <summary>
/// Bytes that should be an event in CloudEvents' JSON format and are not; the message says what is wrong.
/// </summary>
public sealed class UnreadableEventException(string message, Exception? inner = null)
    : Exception(Words.Line(message), inner)
{
    /// <summary>The path of the value at fault, where it is one value.</summary>
    internal string? Path { get; init; }
}
