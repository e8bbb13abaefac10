using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Types;
using GentleCourier.Bench.Amqp;
using GentleCourier.Engines;

namespace GentleCourier.Bench.Budgets;

/// <summary>The wire code alone. What it receives it handles on the thread that reads, one after another.</summary>
internal sealed class BareAmqpBroker(string address) : BareBroker
{
    private const string Queue = "/amq/queue/taps";
    private const int Window = 500;

    private BareAmqp? sender;

    public override void Make()
    {
    }

    public override async Task SendAsync(IReadOnlyList<byte[]> events)
    {
        sender ??= await BareAmqp.OpenAsync(Address, Queue, receives: false);
        sender.Publish([.. events.Select(Wire)], Window);
    }

    public override async Task ReceiveAsync(int parallel, Func<int, byte[], Task> handle)
    {
        using var receiver = await BareAmqp.OpenAsync(Address, Queue, receives: true);
        using var reader = new CloudEventReader();
        receiver.Receive(int.MaxValue, BarePart.Prefetch,
            message => handle(0, reader.Read(Message.Of(message)).ToArray()).GetAwaiter().GetResult());
    }

    public override ValueTask DisposeAsync()
    {
        sender?.Dispose();
        return ValueTask.CompletedTask;
    }

    private AmqpAddress Address => EngineAddress.TryParse(address, out var parsed) ? AmqpAddress.Parse(parsed)
        : throw new FormatException("no address of a broker");

    private static byte[] Wire(byte[] json)
    {
        using var writer = new CloudEventWriter();
        using var buffer = new WireBuffer();
        writer.Write(json, buffer);
        return buffer.Written.ToArray();
    }
}
