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
        var package = typeof(AmqpEngineBuilder).Assembly;
        return builder.AddEngine(package, static () => new AmqpEngine(isSecure: true))
            .AddEngine(package, static () => new AmqpEngine(isSecure: false));
    }
}
