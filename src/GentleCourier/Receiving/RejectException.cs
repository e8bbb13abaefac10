namespace GentleCourier;

/// <summary>
/// Thrown by a receiver to say that trying again is useless: the event is set aside as a dead letter at once.
/// </summary>
/// <param name="reason">Why, in one line, for the person who will read the dead letter.</param>
/// <param name="inner">The exception behind it, if there is one.</param>
public sealed class RejectException(string reason, Exception? inner = null) : Exception(reason, inner);
