namespace GentleCourier.Testing;

/// <summary>
/// A trial cannot go on, or something that a test expects is not so: the message says what was expected, and what
/// happened instead.
/// </summary>
public sealed class TrialException : Exception
{
    internal TrialException(string message, Exception? inner = null) : base(message, inner)
    {
    }
}
