using System.Buffers;
using System.IO.Pipelines;
using GentleCourier.Amqp.Framing;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Transport;

/// <summary>
/// A connection (part 2, section 2.4). One lock guards all that is known of it, its sessions and links: frames are
/// written under it, in the order in which that knowledge changes. Nothing waits under it. Thread-safe.
/// </summary>
internal sealed class Connection : IAsyncDisposable
{
    // A peer that asks to hear something more often than this would be asking for nothing else.
    private static readonly TimeSpan ShortestIdle = TimeSpan.FromMilliseconds(100);

    private readonly Stream stream;
    private readonly Outgoing outgoing;
    private readonly CancellationTokenSource ending = new();
    private readonly TaskCompletionSource lost = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly TaskCompletionSource opened = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly TaskCompletionSource closed = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly Dictionary<ushort, Session> sessions = [], byRemoteChannel = [];
    private byte[] scratch = [];
    private Open? peer;
    private ushort nextChannel;
    private bool hasClosed;
    private long heard;
    private Task life = Task.CompletedTask;

    private Connection(Stream stream, ConnectionSettings settings)
    {
        (this.stream, Settings) = (stream, settings);
        outgoing = new(stream, Gate, HasRoom);
        heard = settings.Clock.GetTimestamp();
    }

    public ConnectionSettings Settings { get; }

    /// <summary>Guards everything; see above.</summary>
    public Lock Gate { get; } = new();

    /// <summary>Ends when the connection is over, whyever; it never fails.</summary>
    public Task Ended => life;

    /// <summary>Why it is over; null while it is not.</summary>
    public AmqpException? WhyEnded { get; private set; }

    /// <summary>The largest frame that may be sent, in bytes.</summary>
    public int MaxFrameSize { get; private set; } = Frame.SmallestMaximum;

    /// <summary>
    /// Whether messages have to wait until something has left: then their links are pumped. To be called under the
    /// lock.
    /// </summary>
    public bool MustWait() => outgoing.MustWait();

    /// <summary>Opens a connection over a stream that has been authenticated; it is this one's from now on.</summary>
    /// <exception cref="AmqpException">The peer does not want it, or not in time.</exception>
    public static async Task<Connection> OpenAsync(
        Stream stream, ConnectionSettings settings, CancellationToken cancellationToken)
    {
        await ProtocolHeader.ExchangeAsync(stream, ProtocolHeader.Amqp.ToArray(), cancellationToken)
            .ConfigureAwait(false);
        var connection = new Connection(stream, settings);
        connection.Begin();
        try
        {
            await settings.AnsweredAsync(connection.opened.Task, "the opening of a connection", cancellationToken)
                .ConfigureAwait(false);
            return connection;
        }
        catch (Exception)
        {
            // No answer to a close is waited for either.
            connection.Lose(new AmqpException($"the connection to {settings.Peer} was given up"));
            await connection.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    /// <summary>Begins a session.</summary>
    /// <exception cref="AmqpException">It is over, or the peer does not want it, or not in time.</exception>
    public async Task<Session> BeginSessionAsync(CancellationToken cancellationToken) =>
        await TryBeginSessionAsync(cancellationToken).ConfigureAwait(false)
        ?? throw new AmqpException(
            $"{Settings.Peer} takes no more than {peer!.ChannelMax + 1} sessions on a connection");

    /// <summary>Begins a session; null where there are as many as the peer takes (section 2.7.1).</summary>
    /// <exception cref="AmqpException">It is over, or the peer does not want it, or not in time.</exception>
    public async Task<Session?> TryBeginSessionAsync(CancellationToken cancellationToken)
    {
        Session session;
        lock (Gate)
        {
            if (WhyEnded is not null) throw WhyEnded;
            if (sessions.Count > peer!.ChannelMax) return null;
            // Any number up to that is legal, and one is free.
            while (nextChannel > peer.ChannelMax || sessions.ContainsKey(nextChannel))
                nextChannel = nextChannel >= peer.ChannelMax ? (ushort)0 : (ushort)(nextChannel + 1);
            session = new Session(this, nextChannel);
            sessions.Add(nextChannel, session);
            session.SendBegin();
            Flush();
        }
        await Settings.AnsweredAsync(session.Begun, "the beginning of a session", cancellationToken)
            .ConfigureAwait(false);
        return session;
    }

    /// <summary>Closes it in good order, within the limit of an answer.</summary>
    public async ValueTask DisposeAsync()
    {
        lock (Gate)
        {
            if (WhyEnded is null && !hasClosed)
            {
                SendClose(null);
                Flush();
            }
        }
        await closed.Task.WaitAsync(Settings.AnswerWithin, Settings.Clock)
            .ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        Lose(new AmqpException($"the connection to {Settings.Peer} was closed here"));
        await life.ConfigureAwait(false);
    }

    /// <summary>Writes a frame: a performative, and what follows it. To be called under the lock.</summary>
    public void Send<T>(ushort channel, Composite<T> shape, T performative) where T : class, new()
    {
        if (hasClosed || WhyEnded is not null) return;
        var start = Frame.Begin(outgoing.Buffer, Frame.Amqp, channel);
        shape.Write(outgoing.Buffer, performative);
        Frame.End(outgoing.Buffer, start);
    }

    /// <summary>
    /// Writes a transfer with as much of a message as fits into a frame (section 2.6.14). To be called under the lock.
    /// </summary>
    /// <returns>How much of it.</returns>
    public int Send(ushort channel, Transfer transfer, ReadOnlySpan<byte> message)
    {
        if (hasClosed || WhyEnded is not null) return message.Length;
        var buffer = outgoing.Buffer;
        var start = buffer.Length;
        for (transfer.More = false; ; transfer.More = true)
        {
            Frame.Begin(buffer, Frame.Amqp, channel);
            Transfer.Shape.Write(buffer, transfer);
            var room = MaxFrameSize - (buffer.Length - start);
            if (message.Length <= room || transfer.More)
            {
                var part = message[..Math.Min(room, message.Length)];
                buffer.Bytes(part);
                Frame.End(buffer, start);
                return part.Length;
            }
            buffer.CutTo(start);
        }
    }

    /// <summary>Lets leave what has been written. To be called under the lock.</summary>
    public void Flush() => outgoing.Flush();

    /// <summary>Forgets a session that has ended. To be called under the lock.</summary>
    public void Forget(Session session)
    {
        sessions.Remove(session.Channel);
        if (session.RemoteChannel is { } channel) byRemoteChannel.Remove(channel);
    }

    private void Begin()
    {
        lock (Gate)
        {
            Send(0, Open.Shape, new Open
            {
                ContainerId = Settings.ContainerId,
                Hostname = Settings.HostName,
                MaxFrameSize = (uint)Settings.MaxFrameSize,
                // A peer sends at half of it (section 2.4.5), and may be late.
                IdleTimeOut = (uint)(Settings.IdleTimeOut.TotalMilliseconds / 2),
            });
            Flush();
        }
        life = LiveAsync();
    }

    /// <summary>The connection's life: three loops, of which each can end it, and none fails unheard.</summary>
    private async Task LiveAsync()
    {
        await Task.Yield();
        var writing = SupervisedAsync(outgoing.RunAsync);
        var others = Task.WhenAll(SupervisedAsync(ReadAsync), SupervisedAsync(BeatAsync));
        await lost.Task.ConfigureAwait(false);
        await ending.CancelAsync().ConfigureAwait(false);
        lock (Gate) outgoing.Complete();
        // The peer may hear why, where it reads at all.
        await writing.WaitAsync(TimeSpan.FromSeconds(1), Settings.Clock)
            .ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        await stream.DisposeAsync().ConfigureAwait(false);
        await Task.WhenAll(writing, others).ConfigureAwait(false);
        lock (Gate) outgoing.Dispose();
        ending.Dispose();
    }

    private async Task SupervisedAsync(Func<Task> loop)
    {
        try
        {
            await loop().ConfigureAwait(false);
        }
        catch (AmqpException e)
        {
            Lose(e);
        }
        catch (DecodeException e)
        {
            Fail(Conditions.DecodeError, e.Message);
        }
        catch (Exception e)
        {
            Lose(new AmqpException($"the connection to {Settings.Peer} was lost: {Words.Of(e)}", null, e));
        }
    }

    private async Task ReadAsync()
    {
        // A buffer of one frame and a bit: large frames lie in one piece more often than not.
        var reader = PipeReader.Create(
            stream, new StreamPipeReaderOptions(bufferSize: 64 * 1024, minimumReadSize: 4096, leaveOpen: true));
        try
        {
            while (true)
            {
                var read = await reader.ReadAsync(ending.Token).ConfigureAwait(false);
                Volatile.Write(ref heard, Settings.Clock.GetTimestamp());
                reader.AdvanceTo(Take(read.Buffer), read.Buffer.End);
                if (read.IsCompleted) throw new AmqpException($"{Settings.Peer} hung up");
            }
        }
        finally
        {
            await reader.CompleteAsync().ConfigureAwait(false);
        }
    }

    /// <summary>Takes all frames that are whole.</summary>
    /// <returns>Where the first begins that is not.</returns>
    private SequencePosition Take(ReadOnlySequence<byte> bytes)
    {
        Span<byte> head = stackalloc byte[Frame.HeadSize];
        lock (Gate)
        {
            while (bytes.Length >= Frame.HeadSize)
            {
                bytes.Slice(0, Frame.HeadSize).CopyTo(head);
                var frame = Frame.ReadHead(head, Settings.MaxFrameSize);
                if (bytes.Length < frame.Size) break;
                Take(frame, Contiguous(bytes.Slice(frame.Offset, frame.Size - frame.Offset)));
                bytes = bytes.Slice(frame.Size);
            }
            Flush();
        }
        return bytes.Start;
    }

    private ReadOnlySpan<byte> Contiguous(ReadOnlySequence<byte> bytes)
    {
        if (bytes.IsSingleSegment) return bytes.FirstSpan;
        if (scratch.Length < bytes.Length) scratch = new byte[Settings.MaxFrameSize];
        bytes.CopyTo(scratch);
        return scratch.AsSpan(0, (int)bytes.Length);
    }

    private void Take(Frame frame, ReadOnlySpan<byte> body)
    {
        if (frame.Type != Frame.Amqp) throw new DecodeException("a SASL frame came after authentication");
        // A frame without a body says only that the peer lives.
        if (body.IsEmpty) return;
        var reader = new WireReader(body);
        var code = Descriptor.Read(ref reader, Performative.CodeOf);
        if (peer is null != (code == Performative.Open))
            throw new DecodeException(peer is null ? "something came before the open" : "a second open came");
        switch (code)
        {
            case Performative.Open:
                TakeOpen(Read(Open.Shape, ref reader));
                break;
            case Performative.Begin:
                TakeBegin(frame.Channel, Read(Performatives.Begin.Shape, ref reader));
                break;
            case Performative.Close:
                TakeClose(Read(Close.Shape, ref reader));
                break;
            default:
                if (!byRemoteChannel.TryGetValue(frame.Channel, out var session))
                    throw new DecodeException($"a frame came on channel {frame.Channel}, where no session is");
                session.Take(code, ref reader);
                break;
        }
    }

    private static T Read<T>(Composite<T> shape, ref WireReader from) where T : class, new()
    {
        var performative = new T();
        shape.ReadFields(ref from, performative);
        return performative;
    }

    private void TakeOpen(Open open)
    {
        WireLimits.MaxFrameSize.Check(open.MaxFrameSize);
        if (open.IdleTimeOut is > 0 and var idle && TimeSpan.FromMilliseconds(idle) < ShortestIdle)
            throw new DecodeException($"idle-time-out is {idle} ms, less than {ShortestIdle.TotalMilliseconds} ms");
        MaxFrameSize = (int)Math.Min(open.MaxFrameSize, (uint)Settings.MaxFrameSize);
        peer = open;
        opened.TrySetResult();
    }

    private void TakeBegin(ushort channel, Begin begin)
    {
        if (begin.RemoteChannel is not { } mine)
            throw new DecodeException("the peer began a session of its own; here nobody would use it");
        if (!sessions.TryGetValue(mine, out var session) || session.RemoteChannel is not null)
            throw new DecodeException($"a session was begun for channel {mine}, where none waits for it");
        if (!byRemoteChannel.TryAdd(channel, session))
            throw new DecodeException($"a session was begun on channel {channel}, where one is");
        session.TakeBegin(channel, begin);
    }

    private void TakeClose(Close close)
    {
        if (!hasClosed) SendClose(null);
        closed.TrySetResult();
        Lose(AmqpException.Of($"{Settings.Peer} closed the connection", close.Error));
    }

    /// <summary>Sends something now and then, and listens whether the peer does (section 2.4.5).</summary>
    private async Task BeatAsync()
    {
        await opened.Task.WaitAsync(ending.Token).ConfigureAwait(false);
        var idle = Settings.IdleTimeOut;
        var theirs = peer!.IdleTimeOut is > 0 and var said ? TimeSpan.FromMilliseconds(said) : Timeout.InfiniteTimeSpan;
        var period = theirs < TimeSpan.Zero || theirs > idle ? idle / 4 : theirs / 4;
        using var timer = new PeriodicTimer(period, Settings.Clock);
        while (await timer.WaitForNextTickAsync(ending.Token).ConfigureAwait(false))
        {
            if (Settings.Clock.GetElapsedTime(Volatile.Read(ref heard)) > idle)
            {
                Fail(Conditions.ResourceLimitExceeded, $"nothing came for {idle.TotalSeconds:0.#} s");
                return;
            }
            lock (Gate)
            {
                if (!outgoing.HasWritten && !hasClosed)
                {
                    Frame.End(outgoing.Buffer, Frame.Begin(outgoing.Buffer, Frame.Amqp, 0));
                    Flush();
                }
                outgoing.HasWritten = false;
            }
        }
    }

    private void HasRoom()
    {
        foreach (var session in sessions.Values) session.Pump();
        Flush();
    }

    /// <summary>The peer has not kept to the protocol, or is gone: it is told so, and the connection is over.</summary>
    private void Fail(string condition, string why)
    {
        lock (Gate)
        {
            if (WhyEnded is not null) return;
            if (!hasClosed) SendClose(AmqpError.Of(condition, why));
            Lose(new AmqpException($"the connection to {Settings.Peer} was given up: {why}", condition));
        }
    }

    private void SendClose(AmqpError? error)
    {
        Send(0, Close.Shape, new Close { Error = error });
        hasClosed = true;
    }

    private void Lose(AmqpException why)
    {
        lock (Gate)
        {
            if (WhyEnded is not null) return;
            WhyEnded = why;
            foreach (var session in sessions.Values.ToList()) session.Lose(why);
            opened.TrySetException(why);
            closed.TrySetResult();
            lost.TrySetResult();
        }
    }
}
