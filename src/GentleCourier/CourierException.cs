namespace GentleCourier;

/// <summary>
/// A store or a broker cannot do what was asked. The message is for a person: what was tried, on what, what came
/// back, and what to do next; it never holds a secret.
/// </summary>
public sealed class CourierException(string message, Exception? inner = null) : Exception(message, inner);
