using GentleCourier.Amqp.Performatives;

namespace GentleCourier.Amqp;

/// <summary>What was asked of a peer came to nothing; the message says what, and what the peer said.</summary>
internal sealed class AmqpException : CourierException
{
    /// <param name="message">For people; nothing secret is in it.</param>
    /// <param name="condition">The condition that a peer gave, or that it is told.</param>
    /// <param name="inner">What lies behind it.</param>
    public AmqpException(string message, string? condition = null, Exception? inner = null) : base(message, inner)
    {
        Condition = condition;
        // Somebody has to mend an address, a right or a program. The rest may be otherwise in a moment.
        IsTransient = condition is not (Conditions.NotFound or Conditions.UnauthorizedAccess or Conditions.NotAllowed
            or Conditions.NotImplemented or Conditions.InvalidField or Conditions.DecodeError
            or Conditions.FramingError or Conditions.LinkRedirect or Conditions.ConnectionRedirect
            or Conditions.MessageSizeExceeded);
    }

    public string? Condition { get; }

    public static AmqpException Of(string what, AmqpError? error) => new(
        $"{what}: {error?.ToString() ?? "it gave no reason"}", error?.Condition.Text);
}
