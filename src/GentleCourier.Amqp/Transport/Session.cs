using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Transport;

/// <summary>
/// A session (section 2.5): it numbers transfers and deliveries, keeps to both windows, and knows what has been sent
/// and is not settled. Thread-safe; what is said to be called under the lock is not, otherwise.
/// </summary>
internal sealed class Session(Connection connection, ushort channel) : IAsyncDisposable
{
    /// <summary>
    /// How many transfer frames the peer may send before it hears that they were taken. They are taken at once; what
    /// keeps memory in bounds is the credit of links.
    /// </summary>
    private const uint Window = 4096;

    private readonly TaskCompletionSource begun = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly TaskCompletionSource gone = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly Dictionary<uint, Link> links = [], byRemoteHandle = [];
    private readonly Dictionary<uint, SentMessage> unsettled = [];
    private readonly Transfer transfer = new();
    private readonly Disposition disposition = new();
    private readonly FlowState flow = new();
    private uint nextOutgoingId, nextDeliveryId, remoteIncomingWindow;
    private uint nextIncomingId, incomingWindow = Window;
    private bool hasEnded;
    private AmqpException? whyEnded;

    public Connection Connection => connection;

    public ushort Channel => channel;

    /// <summary>The peer's channel of it; null before it has begun its end.</summary>
    public ushort? RemoteChannel { get; private set; }

    public Task Begun => begun.Task;

    /// <summary>The highest handle that the peer takes: it takes one link more.</summary>
    public uint HandleMax { get; private set; }

    /// <summary>Whether it has ended, whyever.</summary>
    public bool IsOver => WhyOver is not null;

    /// <summary>Why it has ended; null while it has not.</summary>
    public AmqpException? WhyOver
    {
        get
        {
            lock (connection.Gate) return whyEnded;
        }
    }

    /// <summary>Whether another transfer may be sent. To be called under the lock.</summary>
    public bool MaySend => remoteIncomingWindow > 0 && !connection.MustWait();

    /// <summary>Attaches a link that sends to an address.</summary>
    /// <exception cref="AmqpException">The peer does not want it, or not in time.</exception>
    public Task<SendingLink> AttachSenderAsync(string name, string address, CancellationToken cancellationToken) =>
        AttachAsync(handle => new SendingLink(this, name, address, handle), cancellationToken);

    /// <summary>Attaches a link that receives from an address; it has no credit yet.</summary>
    /// <exception cref="AmqpException">The peer does not want it, or not in time.</exception>
    public Task<ReceivingLink> AttachReceiverAsync(string name, string address, CancellationToken cancellationToken) =>
        AttachAsync(handle => new ReceivingLink(this, name, address, handle), cancellationToken);

    /// <summary>
    /// Ends it with all its links, in good order, within the limit of an answer. What they have received and not
    /// settled goes back; there are peers that give it to others only now, and not when a link is detached.
    /// </summary>
    public async ValueTask DisposeAsync()
    {
        lock (connection.Gate)
        {
            Over(null, new AmqpException($"the session with {connection.Settings.Peer} was ended here"));
            connection.Flush();
        }
        await gone.Task.WaitAsync(connection.Settings.AnswerWithin, connection.Settings.Clock)
            .ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    /// <summary>Sends a performative on its channel. To be called under the lock.</summary>
    public void Send<T>(Composite<T> shape, T performative) where T : class, new()
    {
        if (!hasEnded && whyEnded is null) connection.Send(channel, shape, performative);
    }

    public void SendBegin() => connection.Send(channel, Performatives.Begin.Shape, new Begin
    {
        NextOutgoingId = nextOutgoingId, IncomingWindow = incomingWindow, OutgoingWindow = Window,
    });

    /// <summary>Fills in what a flow says of the session, and sends it. To be called under the lock.</summary>
    public void SendFlow(FlowState said)
    {
        incomingWindow = Window;
        (said.NextIncomingId, said.IncomingWindow) = (nextIncomingId, incomingWindow);
        (said.NextOutgoingId, said.OutgoingWindow) = (nextOutgoingId, Window);
        Send(FlowState.Shape, said);
    }

    /// <summary>A message is about to be sent. To be called under the lock.</summary>
    /// <returns>Its delivery-id.</returns>
    public uint Deliver(SentMessage message)
    {
        unsettled.Add(nextDeliveryId, message);
        return unchecked(nextDeliveryId++);
    }

    /// <summary>Sends as much of a message as fits into a frame. To be called under the lock.</summary>
    /// <returns>How much of it.</returns>
    public int SendTransfer(Transfer head, ReadOnlySpan<byte> message)
    {
        unchecked { nextOutgoingId++; }
        remoteIncomingWindow--;
        return connection.Send(channel, head, message);
    }

    /// <summary>Nothing more is learnt of what a link has sent. To be called under the lock.</summary>
    public void LoseSent(SendingLink link, AmqpException why)
    {
        foreach (var (id, message) in unsettled)
        {
            if (message.Link != link) continue;
            unsettled.Remove(id);
            message.Sending.Lose(why);
        }
    }

    /// <summary>Lets links send what they have. To be called under the lock.</summary>
    public void Pump()
    {
        foreach (var link in links.Values) (link as SendingLink)?.Pump();
    }

    /// <summary>Forgets a link that both ends have detached. To be called under the lock.</summary>
    public void Forget(Link link)
    {
        links.Remove(link.Handle);
        if (link.RemoteHandle is { } handle) byRemoteHandle.Remove(handle);
    }

    public void TakeBegin(ushort remoteChannel, Begin begin)
    {
        RemoteChannel = remoteChannel;
        (nextIncomingId, remoteIncomingWindow, HandleMax) =
            (begin.NextOutgoingId, begin.IncomingWindow, begin.HandleMax);
        begun.TrySetResult();
    }

    /// <summary>A frame of this session.</summary>
    public void Take(ulong? code, ref WireReader from)
    {
        switch (code)
        {
            case Performative.Transfer:
                Transfer.Shape.ReadFields(ref from, transfer);
                TakeTransfer(from.Rest);
                break;
            case Performative.Disposition:
                Disposition.Shape.ReadFields(ref from, disposition);
                TakeDisposition();
                break;
            case Performative.Flow:
                FlowState.Shape.ReadFields(ref from, flow);
                TakeFlow();
                break;
            case Performative.Attach:
                var attach = new Attach();
                Attach.Shape.ReadFields(ref from, attach);
                TakeAttach(attach);
                break;
            case Performative.Detach:
                var detach = new Detach();
                Detach.Shape.ReadFields(ref from, detach);
                if (LinkOf(detach.Handle) is { } link) link.TakeDetach(detach);
                break;
            case Performative.End:
                var end = new End();
                Performatives.End.Shape.ReadFields(ref from, end);
                TakeEnd(end);
                break;
            default:
                throw new DecodeException("a frame carries no performative that is known here");
        }
    }

    /// <summary>It is over, and its links with it. To be called under the lock.</summary>
    public void Lose(AmqpException why)
    {
        // Of the peer's end nothing is heard any more.
        if (connection.WhyEnded is not null) gone.TrySetResult();
        if (whyEnded is not null) return;
        whyEnded = why;
        begun.TrySetException(why);
        // Not everybody has waited for it.
        _ = begun.Task.Exception;
        foreach (var link in links.Values.ToList()) link.TakeEnd(why);
        links.Clear();
        byRemoteHandle.Clear();
    }

    private async Task<T> AttachAsync<T>(Func<uint, T> make, CancellationToken cancellationToken) where T : Link
    {
        T link;
        lock (connection.Gate)
        {
            if (whyEnded is not null) throw whyEnded;
            var handle = 0u;
            while (links.ContainsKey(handle)) handle++;
            if (handle > HandleMax)
                throw new AmqpException($"{connection.Settings.Peer} takes no more than {handle} links in a session");
            link = make(handle);
            links.Add(handle, link);
            link.SendAttach();
            connection.Flush();
        }
        try
        {
            await connection.Settings.AnsweredAsync(
                link.Attached, $"the attaching of a link to '{link.Address}'", cancellationToken).ConfigureAwait(false);
            return link;
        }
        catch (Exception)
        {
            link.Abandon();
            throw;
        }
    }

    private void TakeAttach(Attach attach)
    {
        var link = links.Values.FirstOrDefault(
            l => l.Name == attach.Name && l.IsReceiver != attach.IsReceiver && l.RemoteHandle is null);
        if (link is null)
        {
            Fail(Conditions.NotAllowed, "a link was attached that nobody had asked for");
        }
        else if (!byRemoteHandle.TryAdd(attach.Handle, link))
        {
            Fail(Conditions.HandleInUse, $"a link was attached with the handle {attach.Handle} of another");
        }
        else
        {
            link.TakeAttach(attach);
            (link as SendingLink)?.Pump();
        }
    }

    private void TakeFlow()
    {
        // What is on its way counts too (section 2.5.6). Before its first frame the peer knows of none: from 0 on.
        var underWay = unchecked(nextOutgoingId - (flow.NextIncomingId ?? 0));
        remoteIncomingWindow = flow.IncomingWindow - Math.Min(flow.IncomingWindow, underWay);
        if (flow.Handle is { } handle) LinkOf(handle)?.TakeFlow(flow);
        else if (flow.Echo) SendFlow(new FlowState());
        Pump();
    }

    private void TakeTransfer(ReadOnlySpan<byte> payload)
    {
        (nextIncomingId, incomingWindow) = (unchecked(nextIncomingId + 1), incomingWindow - 1);
        switch (LinkOf(transfer.Handle))
        {
            case ReceivingLink link:
                link.TakeTransfer(transfer, payload);
                break;
            case SendingLink:
                Fail(Conditions.NotAllowed, "a transfer came on a link that sends");
                break;
        }
        // Opened again long before it is used up: nothing ever has to be refused for want of it.
        if (incomingWindow <= Window / 2) SendFlow(new FlowState());
    }

    private void TakeDisposition()
    {
        // What a sender says of what it has sent: here the receiver has settled it already.
        if (!disposition.IsReceiver) return;
        var (first, last) = (disposition.First, disposition.Last ?? disposition.First);
        if (unchecked((int)(last - first)) < 0)
        {
            Fail(Conditions.InvalidField, $"a disposition goes from {first} back to {last}");
            return;
        }
        if (disposition.State is not { IsOutcome: true } && !disposition.Settled) return;
        // Settled without an outcome that is known: nobody can say that it was taken.
        var state = disposition.State is { IsOutcome: true } outcome ? outcome : new UnknownState();
        if (last - first < (uint)unsettled.Count)
            for (var id = first; ; id++)
            {
                TakeOutcome(id, state);
                if (id == last) break;
            }
        else
            foreach (var id in unsettled.Keys.Where(id => unchecked(id - first) <= last - first).ToList())
                TakeOutcome(id, state);
        // The peer waits for the last word (section 2.6.12).
        if (!disposition.Settled)
            Send(Disposition.Shape, new Disposition { First = first, Last = last, Settled = true, State = state });
    }

    private void TakeOutcome(uint id, DeliveryState state)
    {
        if (unsettled.Remove(id, out var message)) message.Sending.Set(message.Index, state);
    }

    private void TakeEnd(End end)
    {
        Over(null, AmqpException.Of($"{connection.Settings.Peer} ended the session", end.Error));
        connection.Forget(this);
        gone.TrySetResult();
    }

    /// <summary>The link with the peer's handle; where there is none, the session is over.</summary>
    private Link? LinkOf(uint remoteHandle)
    {
        if (byRemoteHandle.TryGetValue(remoteHandle, out var link)) return link;
        Fail(Conditions.UnattachedHandle, $"a frame came for the handle {remoteHandle}, to which no link is attached");
        return null;
    }

    /// <summary>The peer has not kept to the protocol: it is told so, and the session is over.</summary>
    private void Fail(string condition, string why) => Over(
        AmqpError.Of(condition, why),
        new AmqpException($"the session with {connection.Settings.Peer} was given up: {why}", condition));

    private void Over(AmqpError? error, AmqpException why)
    {
        if (hasEnded || whyEnded is not null) return;
        Send(Performatives.End.Shape, new End { Error = error });
        hasEnded = true;
        Lose(why);
    }
}

/// <summary>A message that has been sent and is not settled.</summary>
internal readonly record struct SentMessage(SendingLink Link, Sending Sending, int Index);
