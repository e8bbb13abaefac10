using System.Collections.Concurrent;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using GentleCourier.Amqp.Framing;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Tests;

/// <summary>Something that a peer has been told: a protocol header (code 0), or a performative.</summary>
internal sealed record Told(ushort Channel, byte Code, object Performative, byte[] Payload);

/// <summary>
/// A peer that behaves, but where it is scripted not to: it takes whatever is sent, and hands over
/// <see cref="Messages"/> on every link that receives.
/// </summary>
internal sealed class ScriptedPeer : IAsyncDisposable
{
    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly ConcurrentBag<Talk> talks = [];
    private readonly Task accepting;

    public ScriptedPeer()
    {
        listener.Start();
        accepting = AcceptAsync();
    }

    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    public string Address => $"amqp://127.0.0.1:{Port}";

    /// <summary>Is asked first; where it says true, it has answered, or has kept silent.</summary>
    public Func<Talk, Told, Task<bool>> On { get; set; } = (_, _) => Task.FromResult(false);

    public IReadOnlyList<byte[]> Messages { get; set; } = [];

    /// <summary>What it says of itself.</summary>
    public Open Open { get; set; } = new() { ContainerId = "scripted" };

    public uint IncomingWindow { get; set; } = 1000;

    /// <summary>How many messages it takes at once.</summary>
    public uint Credit { get; set; } = 10;

    /// <summary>Hangs up after so many bytes of its own.</summary>
    public int? CutAfter { get; set; }

    /// <summary>After those it does not hang up, but falls silent.</summary>
    public bool Freezes { get; set; }

    /// <summary>Sends each byte by itself.</summary>
    public bool IsSlow { get; set; }

    public SslServerAuthenticationOptions? Tls { get; set; }

    /// <summary>All that it has been told, in every conversation.</summary>
    public ConcurrentQueue<Told> Heard { get; } = [];

    public int Conversations => talks.Count;

    public async ValueTask DisposeAsync()
    {
        listener.Stop();
        foreach (var talk in talks) await talk.HangUpAsync();
        await accepting;
    }

    /// <summary>Waits until it has been told such a thing.</summary>
    public async Task<T> HeardAsync<T>(Func<T, bool>? which = null)
    {
        for (var left = 3000; left > 0; left--)
        {
            if (Heard.Select(t => t.Performative).OfType<T>().FirstOrDefault(which ?? (_ => true)) is { } it) return it;
            await Task.Delay(10, TestContext.Current.CancellationToken);
        }
        throw new TimeoutException($"the peer has not been told a {typeof(T).Name}");
    }

    /// <summary>Hangs up wherever it talks.</summary>
    public async Task HangUpAsync()
    {
        foreach (var talk in talks) await talk.HangUpAsync();
    }

    private async Task AcceptAsync()
    {
        var running = new List<Task>();
        try
        {
            while (true)
            {
                var socket = await listener.AcceptSocketAsync();
                socket.NoDelay = true;
                var talk = new Talk(this, new NetworkStream(socket, ownsSocket: true));
                talks.Add(talk);
                running.Add(Task.Run(talk.RunAsync));
            }
        }
        catch (Exception e) when (e is SocketException or ObjectDisposedException)
        {
            // It was stopped.
        }
        await Task.WhenAll(running);
    }
}

/// <summary>One conversation of a scripted peer.</summary>
internal sealed class Talk(ScriptedPeer peer, Stream stream)
{
    private readonly Dictionary<uint, Attach> links = [];
    private readonly HashSet<uint> detached = [];
    private Stream stream = stream;
    private int sent;
    private uint nextOutgoing, nextIncoming;

    public Task HangUpAsync() => stream.DisposeAsync().AsTask();

    public async Task RunAsync()
    {
        try
        {
            if (peer.Tls is { } tls)
            {
                // Who has hung up already has no stream.
                if (!stream.CanRead) return;
                var secure = new SslStream(stream);
                await secure.AuthenticateAsServerAsync(tls);
                stream = secure;
            }
            while (true)
            {
                var told = await ReadAsync();
                peer.Heard.Enqueue(told);
                if (!await peer.On(this, told)) await AnswerAsync(told);
            }
        }
        catch (Exception e) when (e is IOException or ObjectDisposedException or SocketException
            or InvalidOperationException
            or System.Security.Authentication.AuthenticationException)
        {
            // It is over.
        }
        await HangUpAsync();
    }

    /// <summary>Sends a frame.</summary>
    public async Task SendAsync<T>(Composite<T> shape, T performative, byte[]? payload = null, ushort channel = 0,
        byte type = 0)
        where T : class, new()
    {
        if (performative is Attach attach) detached.Remove(attach.Handle);
        // Once is enough, whoever begins.
        if (performative is Detach detach && !detached.Add(detach.Handle)) return;
        using var buffer = new WireBuffer();
        var start = Frame.Begin(buffer, type, channel);
        shape.Write(buffer, performative);
        buffer.Bytes(payload);
        Frame.End(buffer, start);
        await RawAsync(buffer.Written.ToArray());
    }

    public async Task RawAsync(byte[] bytes)
    {
        if (peer.CutAfter is { } limit)
        {
            var left = Math.Max(0, limit - sent);
            sent += bytes.Length;
            if (left < bytes.Length)
            {
                await stream.WriteAsync(bytes.AsMemory(0, left));
                if (!peer.Freezes) await HangUpAsync();
                return;
            }
        }
        if (!peer.IsSlow)
        {
            await stream.WriteAsync(bytes);
            return;
        }
        foreach (var one in bytes)
        {
            await stream.WriteAsync(new[] { one });
            await Task.Yield();
        }
    }

    /// <summary>A part of a message on a link.</summary>
    public Task TransferAsync(uint handle, uint? delivery, byte[] payload, bool more = false)
    {
        nextOutgoing++;
        var transfer = new Transfer
        {
            Handle = handle, DeliveryId = delivery, Tag = delivery is { } id ? DeliveryTag.Of(id) : null, More = more,
            MessageFormat = 0,
        };
        return SendAsync(Transfer.Shape, transfer, payload);
    }

    public Task FlowAsync(FlowState flow)
    {
        (flow.NextIncomingId, flow.IncomingWindow) = (nextIncoming, peer.IncomingWindow);
        (flow.NextOutgoingId, flow.OutgoingWindow) = (nextOutgoing, 1000);
        return SendAsync(FlowState.Shape, flow);
    }

    /// <summary>What a peer that behaves says to it.</summary>
    public Task AnswerAsync(Told told) => told.Performative switch
    {
        byte[] header => HeaderAsync(header),
        SaslInit => SendAsync(SaslOutcome.Shape, new SaslOutcome(), type: Frame.Sasl),
        Open => SendAsync(Open.Shape, peer.Open),
        Begin => SendAsync(Begin.Shape, new Begin
        {
            RemoteChannel = told.Channel, IncomingWindow = peer.IncomingWindow, OutgoingWindow = 1000,
        }),
        Attach attach => AttachAsync(attach),
        FlowState flow => FlowedAsync(flow),
        Transfer transfer => TransferredAsync(transfer),
        Detach detach => SendAsync(Detach.Shape, new Detach { Handle = detach.Handle, Closed = true }),
        End => SendAsync(End.Shape, new End()),
        Close => SendAsync(Close.Shape, new Close()),
        _ => Task.CompletedTask,
    };

    private async Task HeaderAsync(byte[] header)
    {
        await RawAsync(header);
        if (header[4] != 3) return;
        await SendAsync(
            SaslMechanisms.Shape, new SaslMechanisms { Offered = ["ANONYMOUS", "PLAIN", "EXTERNAL"] },
                type: Frame.Sasl);
    }

    private async Task AttachAsync(Attach attach)
    {
        links[attach.Handle] = attach;
        await SendAsync(Attach.Shape, new Attach
        {
            Name = attach.Name, Handle = attach.Handle, IsReceiver = !attach.IsReceiver, Source = attach.Source,
            Target = attach.Target, InitialDeliveryCount = attach.IsReceiver ? 0 : null,
            SenderSettles = attach.SenderSettles,
        });
        if (!attach.IsReceiver)
            await FlowAsync(new FlowState { Handle = attach.Handle, DeliveryCount = 0, LinkCredit = peer.Credit });
    }

    private async Task FlowedAsync(FlowState flow)
    {
        if (flow.Handle is not { } handle || !links[handle].IsReceiver || flow.DeliveryCount is not { } count) return;
        var last = Math.Min(count + (flow.LinkCredit ?? 0), (uint)peer.Messages.Count);
        for (var next = count; next < last; next++) await TransferAsync(handle, next, peer.Messages[(int)next]);
        if (flow.Echo || flow.Drain)
            await FlowAsync(new FlowState
            {
                Handle = handle, DeliveryCount = flow.Drain ? count + flow.LinkCredit : Math.Max(count, last),
                LinkCredit = flow.Drain ? 0 : count + flow.LinkCredit - Math.Max(count, last),
                Available = (uint)peer.Messages.Count - count,
            });
    }

    private async Task TransferredAsync(Transfer transfer)
    {
        nextIncoming++;
        if (!transfer.More)
            await SendAsync(Disposition.Shape, new Disposition
            {
                IsReceiver = true, First = transfer.DeliveryId ?? 0, Settled = true, State = DeliveryState.Accepted,
            });
        if (nextIncoming % peer.IncomingWindow == 0) await FlowAsync(new FlowState());
    }

    private async Task<Told> ReadAsync()
    {
        var head = new byte[8];
        await stream.ReadExactlyAsync(head);
        if (head.AsSpan(0, 4).SequenceEqual("AMQP"u8)) return new(0, 0, head, []);
        var frame = Frame.ReadHead(head, 1024 * 1024);
        var body = new byte[frame.Size - 8];
        await stream.ReadExactlyAsync(body);
        return body.Length == 0 ? new(frame.Channel, 0, "nothing", []) : Read(frame, body);
    }

    private static Told Read(Frame frame, byte[] body)
    {
        var reader = new WireReader(body);
        var code = (byte)Descriptor.Read(ref reader, Performative.CodeOf)!;
        var performative = Read(code, ref reader);
        return new(frame.Channel, code, performative, reader.Rest.ToArray());
    }

    /// <summary>The fields of a performative.</summary>
    public static object Read(byte code, ref WireReader reader) => code switch
    {
        Performative.SaslInit => Fields(SaslInit.Shape, ref reader),
        Performative.Open => Fields(Open.Shape, ref reader),
        Performative.Begin => Fields(Begin.Shape, ref reader),
        Performative.Attach => Fields(Attach.Shape, ref reader),
        Performative.Flow => Fields(FlowState.Shape, ref reader),
        Performative.Transfer => Fields(Transfer.Shape, ref reader),
        Performative.Disposition => Fields(Disposition.Shape, ref reader),
        Performative.Detach => Fields(Detach.Shape, ref reader),
        Performative.End => Fields(End.Shape, ref reader),
        Performative.Close => Fields(Close.Shape, ref reader),
        _ => throw new InvalidOperationException($"the peer was told 0x{code:x2}"),
    };

    private static T Fields<T>(Composite<T> shape, ref WireReader reader) where T : class, new()
    {
        var performative = new T();
        shape.ReadFields(ref reader, performative);
        return performative;
    }
}
