using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;
using GentleCourier.Engines;
using GentleCourier.Servers;

[assembly: AssemblyFixture(typeof(GentleCourier.Amqp.Tests.SharedBroker))]

namespace GentleCourier.Amqp.Tests;

/// <summary>The broker of all tests that do not stop it; started by the first that asks.</summary>
public sealed class SharedBroker : IDisposable
{
    private static readonly Lazy<PrivateAmqp> Broker = new(Start);
    private static int made;

    public static PrivateAmqp One => Broker.Value;

    public static PrivateAmqp Start() => new(Directory.CreateTempSubdirectory("courier-amqp-").FullName);

    /// <summary>A new queue.</summary>
    /// <returns>Its name, and its address at the broker.</returns>
    public static (string Name, string Address) Queue()
    {
        var name = $"queue-{Interlocked.Increment(ref made)}";
        return (name, One.Create(name));
    }

    public void Dispose()
    {
        if (Broker.IsValueCreated) Broker.Value.Dispose();
    }
}

internal static class Peers
{
    public static AmqpAddress Parse(string address) => EngineAddress.TryParse(address, out var parsed)
        ? AmqpAddress.Parse(parsed) : throw new FormatException(address);

    public static ConnectionSettings Settings(PeerHost host) => new() { Peer = $"{host}", ContainerId = "tests" };

    public static async Task<Connection> ConnectAsync(string address, Func<PeerHost,
        ConnectionSettings>? settings = null) =>
        (await Reach.AnyAsync(
            Parse(address), 0, settings ?? Settings, TestContext.Current.CancellationToken)).Connection;
}
