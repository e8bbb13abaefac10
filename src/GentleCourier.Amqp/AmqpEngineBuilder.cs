using GentleCourier.Amqp;

namespace GentleCourier;

/// <summary>Makes the engine known to an application.</summary>
public static class AmqpEngineBuilder
{
    /// <summary>
    /// Lets <c>Courier:Broker</c> be an address <c>amqps://USER@HOST</c>, or <c>amqp://USER@HOST</c> without TLS.
    /// </summary>
    public static CourierBuilder UseAmqp(this CourierBuilder builder)
    {
        ArgumentNullException.ThrowIfNull(builder);
        return builder.AddEngine(new AmqpEngine(isSecure: true)).AddEngine(new AmqpEngine(isSecure: false));
    }
}
