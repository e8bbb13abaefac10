using System.Net.Sockets;
using GentleCourier.Amqp.Framing;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Bench.Amqp;

/// <summary>
/// The least that moves messages on the same wire code: one thread, a blocking socket, messages that lie ready, and no
/// state but what the next frame needs.
/// </summary>
internal sealed class BareAmqp : IDisposable
{
    private readonly NetworkStream stream;
    private readonly WireBuffer output = new(1024 * 1024);
    private readonly byte[] input = new byte[512 * 1024];
    private readonly Transfer transfer = new();
    private readonly Disposition disposition = new();
    private readonly FlowState flow = new();
    private int filled;
    private uint credit, deliveryCount, settled;
    private uint first, received;

    private readonly bool receives;
    private Action<byte[]>? read;

    private BareAmqp(NetworkStream stream, bool receives) => (this.stream, this.receives) = (stream, receives);

    public static async Task<BareAmqp> OpenAsync(AmqpAddress address, string queue, bool receives)
    {
        var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        await socket.ConnectAsync(address.Hosts[0].Name, address.Hosts[0].Port);
        var connected = new NetworkStream(socket, ownsSocket: true);
        await Sasl.Plain(address.User!, address.Password!).ShowAsync(connected, null, "the bench", default);
        await ProtocolHeader.ExchangeAsync(connected, ProtocolHeader.Amqp.ToArray(), default);
        var bare = new BareAmqp(connected, receives);
        bare.Send(Open.Shape, new Open { ContainerId = "bare", MaxFrameSize = 128 * 1024, ChannelMax = 1 });
        bare.Send(Begin.Shape, new Begin { IncomingWindow = int.MaxValue, OutgoingWindow = int.MaxValue });
        bare.Send(Attach.Shape, new Attach
        {
            Name = "bare", IsReceiver = receives, SenderSettles = SettleMode.Unsettled,
            Source = new Source { Address = receives ? queue : null },
            Target = new Target { Address = receives ? null : queue }, InitialDeliveryCount = receives ? null : 0,
        });
        bare.Flush();
        return bare;
    }

    /// <summary>
    /// Sends messages, at the most so many on their way, and waits until all are confirmed.
    /// </summary>
    public void Publish(IReadOnlyList<byte[]> messages, int window) =>
        Publish(number => messages[number], messages.Count, window);

    /// <summary>The same, of one message so often.</summary>
    public void Publish(byte[] message, int count, int window) => Publish(_ => message, count, window);

    private void Publish(Func<int, byte[]> messages, int count, int window)
    {
        var begin = deliveryCount;
        var goal = settled + (uint)count;
        var last = deliveryCount + (uint)count;
        while (settled != goal)
        {
            while (credit > 0 && deliveryCount != last && deliveryCount - settled < window
                && output.Length < 256 * 1024)
            {
                (transfer.Handle, transfer.DeliveryId, transfer.Tag) =
                    (0, deliveryCount, DeliveryTag.Of(deliveryCount));
                (transfer.MessageFormat, transfer.Settled) = (0, false);
                Send(Transfer.Shape, transfer, messages((int)(deliveryCount - begin)));
                (deliveryCount, credit) = (deliveryCount + 1, credit - 1);
            }
            if (output.Length > 0) Flush();
            else Read();
            if (stream.DataAvailable) Read();
        }
    }

    /// <summary>Receives, reads and settles so many, with so much credit.</summary>
    public void Receive(int count, uint prefetch, Action<byte[]>? read = null)
    {
        this.read = read;
        var goal = received + (uint)count;
        while (received < goal)
        {
            if (credit < prefetch / 2)
            {
                credit = prefetch;
                Send(FlowState.Shape, new FlowState
                {
                    NextIncomingId = received, IncomingWindow = int.MaxValue, OutgoingWindow = int.MaxValue, Handle = 0,
                    DeliveryCount = received, LinkCredit = credit,
                });
            }
            if (output.Length > 0) Flush();
            first = received;
            Read();
            if (received == first) continue;
            Send(Disposition.Shape, new Disposition
            {
                IsReceiver = true, First = first, Last = received - 1, Settled = true, State = DeliveryState.Accepted,
            });
        }
        Flush();
    }

    public void Dispose()
    {
        stream.Dispose();
        output.Dispose();
    }

    private void Send<T>(Composite<T> shape, T performative, byte[]? payload = null) where T : class, new()
    {
        var start = Frame.Begin(output, Frame.Amqp, 0);
        shape.Write(output, performative);
        output.Bytes(payload);
        Frame.End(output, start);
    }

    private void Flush()
    {
        stream.Write(output.Written);
        output.CutTo(0);
    }

    private void Read()
    {
        var count = stream.Read(input.AsSpan(filled));
        if (count == 0) throw new IOException("the broker hung up");
        filled += count;
        var at = 0;
        while (filled - at >= Frame.HeadSize)
        {
            var frame = Frame.ReadHead(input.AsSpan(at), 256 * 1024);
            if (filled - at < frame.Size) break;
            Take(input.AsSpan(at + frame.Offset, frame.Size - frame.Offset));
            at += frame.Size;
        }
        input.AsSpan(at, filled - at).CopyTo(input);
        filled -= at;
    }

    private void Take(ReadOnlySpan<byte> body)
    {
        if (body.IsEmpty) return;
        var reader = new WireReader(body);
        switch (Descriptor.Read(ref reader, Performative.CodeOf))
        {
            case Performative.Transfer:
                Transfer.Shape.ReadFields(ref reader, transfer);
                (received, credit) = (received + 1, credit == 0 ? 0 : credit - 1);
                read?.Invoke(reader.Rest.ToArray());
                break;
            case Performative.Disposition:
                Disposition.Shape.ReadFields(ref reader, disposition);
                settled += (disposition.Last ?? disposition.First) - disposition.First + 1;
                break;
            case Performative.Flow:
                FlowState.Shape.ReadFields(ref reader, flow);
                if (!receives) credit = (flow.DeliveryCount ?? 0) + (flow.LinkCredit ?? 0) - deliveryCount;
                break;
            case Performative.Close or Performative.End:
                throw new IOException("the broker ended it");
            default:
                break;
        }
    }
}
