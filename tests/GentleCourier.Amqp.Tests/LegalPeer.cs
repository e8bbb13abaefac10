using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using System.Threading.Channels;
using GentleCourier.Amqp.Framing;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Tests;

/// <summary>A broker in memory that keeps to the protocol, with any habits that this allows.</summary>
internal sealed class LegalPeer : IAsyncDisposable
{
    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly Dictionary<string, LinkedList<byte[]>> queues = new(StringComparer.Ordinal);
    private readonly ConcurrentBag<Conversation> conversations = [];
    private readonly Task accepting;

    public LegalPeer(int seed)
    {
        Habits = new Habits(seed);
        listener.Start();
        accepting = AcceptAsync();
    }

    public Habits Habits { get; }

    public string Address => $"amqp://127.0.0.1:{((IPEndPoint)listener.LocalEndpoint).Port}";

    /// <summary>What went against the protocol, as it sees it.</summary>
    public ConcurrentQueue<string> Complaints { get; } = [];

    /// <summary>How many connections were made to it.</summary>
    public int Conversations => conversations.Count;

    /// <summary>How many wait, and how many are in hand.</summary>
    public int Count
    {
        get
        {
            lock (queues) return queues.Values.Sum(q => q.Count) + conversations.Sum(c => c.InHand);
        }
    }

    public async ValueTask DisposeAsync()
    {
        listener.Stop();
        foreach (var conversation in conversations) conversation.Dispose();
        await accepting;
    }

    public void Put(string queue, byte[] message, bool isBack = false)
    {
        lock (queues)
        {
            var kept = QueueOf(queue);
            if (isBack) kept.AddFirst(message);
            else kept.AddLast(message);
        }
        foreach (var conversation in conversations) conversation.Post(static c => c.PumpAsync());
    }

    public byte[]? Take(string queue)
    {
        lock (queues)
        {
            var kept = QueueOf(queue);
            if (kept.First is not { } first) return null;
            kept.RemoveFirst();
            return first.Value;
        }
    }

    /// <summary>Of each queue, how many wait, and how many are in hand.</summary>
    public IReadOnlyDictionary<string, (int Ready, int InHand)> CountEach()
    {
        lock (queues) return queues.ToDictionary(q => q.Key, q => (q.Value.Count, InHandOf(q.Key)));
    }

    private int InHandOf(string queue) => conversations.Sum(c => c.InHandOf(queue));

    public int Waiting(string queue)
    {
        lock (queues) return QueueOf(queue).Count;
    }

    private LinkedList<byte[]> QueueOf(string queue) =>
        queues.TryGetValue(queue, out var kept) ? kept : queues[queue] = [];

    private async Task AcceptAsync()
    {
        var running = new List<Task>();
        try
        {
            while (true)
            {
                var socket = await listener.AcceptSocketAsync();
                socket.NoDelay = true;
                var conversation = new Conversation(this, socket);
                conversations.Add(conversation);
                running.Add(Task.Run(conversation.RunAsync));
            }
        }
        catch (Exception e) when (e is SocketException or ObjectDisposedException)
        {
            // It was stopped.
        }
        await Task.WhenAll(running);
    }
}

/// <summary>One conversation of it. All that it does is done by one loop.</summary>
internal sealed class Conversation(LegalPeer peer, Socket socket) : IDisposable
{
    private readonly NetworkStream stream = new(socket, ownsSocket: true);
    private readonly Channel<Func<Conversation, Task>> doing =
        Channel.CreateUnbounded<Func<Conversation, Task>>();
    private readonly Dictionary<ushort, Their> sessions = [];
    private readonly Habits habits = peer.Habits;
    private Open? theirs;
    private readonly ConcurrentDictionary<string, int> byQueue = new(StringComparer.Ordinal);
    private int inHand;

    public int InHand => Volatile.Read(ref inHand);

    public int InHandOf(string queue) => byQueue.GetValueOrDefault(queue);

    public void Dispose() => stream.Dispose();

    public void Post(Func<Conversation, Task> what) => doing.Writer.TryWrite(what);

    public async Task RunAsync()
    {
        var reading = ReadAllAsync();
        try
        {
            await foreach (var what in doing.Reader.ReadAllAsync()) await what(this);
        }
        catch (Exception e) when (e is IOException or ObjectDisposedException or SocketException)
        {
            // It is over.
        }
        catch (Exception e)
        {
            peer.Complaints.Enqueue(e.ToString());
        }
        doing.Writer.TryComplete();
        Dispose();
        await reading;
        foreach (var session in sessions.Values) GiveBack(session);
        sessions.Clear();
    }

    public async Task PumpAsync()
    {
        foreach (var session in sessions.Values.ToList()) await PumpAsync(session);
    }

    private async Task ReadAllAsync()
    {
        try
        {
            while (true)
            {
                var head = new byte[8];
                await stream.ReadExactlyAsync(head);
                if (head.AsSpan(0, 4).SequenceEqual("AMQP"u8))
                {
                    Post(c => c.HeaderAsync(head));
                    continue;
                }
                var frame = Frame.ReadHead(head, (int)Math.Min(habits.Open.MaxFrameSize, 16 * 1024 * 1024));
                var body = new byte[frame.Size - 8];
                await stream.ReadExactlyAsync(body);
                if (body.Length > 0) Post(c => c.TakeAsync(frame.Channel, body));
            }
        }
        catch (Exception e) when (e is IOException or ObjectDisposedException)
        {
            // It is over.
        }
        catch (Exception e)
        {
            peer.Complaints.Enqueue(e.ToString());
        }
        doing.Writer.TryComplete();
    }

    private async Task HeaderAsync(byte[] header)
    {
        await stream.WriteAsync(header);
        if (header[4] == 3)
            await SendAsync(
                0, SaslMechanisms.Shape, new SaslMechanisms { Offered = habits.Mechanisms }, type: Frame.Sasl);
    }

    private async Task TakeAsync(ushort channel, byte[] body)
    {
        if (theirs is not null && habits.SendsEmpty && habits.Chance(0.1))
            await stream.WriteAsync(new byte[] { 0, 0, 0, 8, 2, 0, 0, 0 });
        var (code, performative, payload) = Parse(body);
        switch (performative)
        {
            case SaslInit:
                await SendAsync(0, SaslOutcome.Shape, new SaslOutcome(), type: Frame.Sasl);
                break;
            case Open open:
                theirs = open;
                await SendAsync(0, Open.Shape, habits.Open);
                break;
            case Begin begin:
                await BeginAsync(channel, begin);
                break;
            case Close:
                await SendAsync(0, Close.Shape, new Close());
                break;
            default:
                if (sessions.TryGetValue(channel, out var session)) await TakeAsync(session, performative, payload);
                else if (!isEnding.Contains(channel)) Complain($"0x{code:x2} on channel {channel}, without a session");
                if (performative is End) isEnding.Remove(channel);
                break;
        }
    }

    // What was under way when this end ended a session is no fault.
    private readonly HashSet<ushort> isEnding = [];

    private async Task BeginAsync(ushort channel, Begin begin)
    {
        if (channel > habits.Open.ChannelMax) Complain($"channel {channel} of {habits.Open.ChannelMax}");
        if (sessions.ContainsKey(channel)) Complain($"channel {channel} has a session");
        var free = Enumerable.Range(0, theirs!.ChannelMax + 1).Select(c => (ushort)(theirs.ChannelMax - c))
            .First(c => sessions.Values.All(s => s.Mine != c));
        var session = new Their(channel, free)
        {
            NextOutgoing = habits.FirstTransfer, NextIncoming = begin.NextOutgoingId, Window = begin.IncomingWindow,
            Left = habits.IncomingWindow, NextDelivery = habits.FirstDelivery,
        };
        sessions.Add(channel, session);
        await SendAsync(free, Begin.Shape, new Begin
        {
            RemoteChannel = channel, NextOutgoingId = session.NextOutgoing, IncomingWindow = habits.IncomingWindow,
            OutgoingWindow = 100, HandleMax = habits.HandleMax,
        });
    }

    private Task TakeAsync(Their session, object performative, byte[] payload) => performative switch
    {
        Attach attach => AttachAsync(session, attach),
        FlowState flow => FlowedAsync(session, flow),
        Transfer transfer => TransferredAsync(session, transfer, payload),
        Disposition disposition => SettledAsync(session, disposition),
        Detach detach => DetachedAsync(session, detach),
        End => EndedAsync(session),
        _ => Task.CompletedTask,
    };

    private async Task AttachAsync(Their session, Attach attach)
    {
        if (attach.Handle > habits.HandleMax) Complain($"handle {attach.Handle} of {habits.HandleMax}");
        var address = (string?)(attach.IsReceiver ? attach.Source!.Address : attach.Target!.Address) ?? "";
        // Its handles are its own.
        var mine = session.NextHandle--;
        var link = new TheirLink(address, attach.IsReceiver, mine) { Count = attach.InitialDeliveryCount ?? 0 };
        if (attach.IsReceiver) link.Count = habits.FirstDelivery - 3;
        var refuses = habits.Refuses > 0;
        if (refuses) habits.Refuses--;
        await SendAsync(session.Mine, Attach.Shape, new Attach
        {
            Name = attach.Name, Handle = mine, IsReceiver = !attach.IsReceiver,
            Source = refuses && attach.IsReceiver ? null : attach.Source,
            Target = refuses && !attach.IsReceiver ? null : attach.Target,
            InitialDeliveryCount = attach.IsReceiver ? link.Count : null,
        });
        session.Links[attach.Handle] = link;
        if (refuses)
        {
            link.IsGone = true;
            await SendAsync(session.Mine, Detach.Shape, new Detach
            {
                Handle = mine, Closed = true, Error = AmqpError.Of("amqp:internal-error", "not now"),
            });
        }
        else if (!attach.IsReceiver)
        {
            link.Credit = habits.Credit;
            await FlowAsync(session, link);
        }
    }

    private async Task FlowedAsync(Their session, FlowState flow)
    {
        var underWay = unchecked(session.NextOutgoing - (flow.NextIncomingId ?? habits.FirstTransfer));
        session.Window = flow.IncomingWindow - Math.Min(flow.IncomingWindow, underWay);
        if (flow.Handle is { } handle && LinkOf(session, handle) is { IsGone: false } link)
        {
            if (link.Receives)
                link.Credit = unchecked((flow.DeliveryCount ?? link.Count) + (flow.LinkCredit ?? 0) - link.Count);
            if (link.Credit > int.MaxValue) link.Credit = 0;
            await PumpAsync(session);
            if (flow.Drain && link.Receives)
            {
                unchecked { link.Count += link.Credit; }
                link.Credit = 0;
                await FlowAsync(session, link);
            }
            else if (flow.Echo && habits.Echoes)
            {
                await FlowAsync(session, link);
            }
        }
        else if (flow.Handle is null && flow.Echo && habits.Echoes)
        {
            await FlowAsync(session, null);
        }
        await PumpAsync(session);
    }

    private async Task TransferredAsync(Their session, Transfer transfer, byte[] payload)
    {
        session.NextIncoming++;
        if (session.Left-- == 0) Complain("a transfer outside of the window");
        if (session.Left == 0)
        {
            session.Left = habits.IncomingWindow;
            await FlowAsync(session, null);
        }
        if (LinkOf(session, transfer.Handle) is not { IsGone: false } link) return;
        link.Partial.AddRange(payload);
        link.Delivery = transfer.DeliveryId ?? link.Delivery;
        if (transfer.More) return;
        if (link.Credit == 0) Complain("a message for which there was no credit");
        link.Credit--;
        unchecked { link.Count++; }
        DeliveryState state = !habits.Chance(habits.GivesBack) ? DeliveryState.Accepted
            : habits.Chance(0.5) ? DeliveryState.Released : new Modified { DeliveryFailed = true };
        if (state is Accepted) peer.Put(link.Address, [.. link.Partial]);
        link.Partial.Clear();
        session.ToSettle.Add((link.Delivery, state));
        if (!habits.SettlesLate || link.Credit == 0 || habits.Chance(0.3)) await SettleAsync(session);
        if (link.Credit == 0)
        {
            link.Credit = habits.Credit;
            await FlowAsync(session, link);
        }
        if (habits.SettlesLate) Post(c => c.SettleAsync(session));
        await MaybeBreakAsync(session, link, transfer.Handle);
    }

    private async Task SettleAsync(Their session)
    {
        if (session.IsGone) return;
        for (var i = 0; i < session.ToSettle.Count;)
        {
            var (first, state) = session.ToSettle[i];
            var last = first;
            while (++i < session.ToSettle.Count && session.ToSettle[i].State.GetType() == state.GetType()
                && session.ToSettle[i].Id == unchecked(last + 1)) last++;
            await SendAsync(session.Mine, Disposition.Shape, new Disposition
            {
                IsReceiver = true, First = first, Last = last == first ? null : last, State = state,
                Settled = !habits.SettlesInTwo,
            });
        }
        session.ToSettle.Clear();
    }

    private async Task SettledAsync(Their session, Disposition disposition)
    {
        if (!disposition.IsReceiver) return;
        for (var id = disposition.First; ; id++)
        {
            if (session.InHand.Remove(id, out var given))
            {
                Count(given.Queue, -1);
                if (disposition.State is not Accepted) peer.Put(given.Queue, given.Message, isBack: true);
            }
            else if (!session.Settled.Contains(id))
            {
                Complain($"delivery {id} was settled, and was not in hand");
            }
            if (id == (disposition.Last ?? disposition.First)) break;
        }
        await PumpAsync(session);
    }

    private async Task DetachedAsync(Their session, Detach detach)
    {
        if (!session.Links.Remove(detach.Handle, out var link)) return;
        if (!link.IsGone) await SendAsync(session.Mine, Detach.Shape, new Detach { Handle = link.Mine, Closed = true });
        GiveBack(session, link);
    }

    private async Task EndedAsync(Their session)
    {
        session.IsGone = true;
        await SendAsync(session.Mine, End.Shape, new End());
        sessions.Remove(session.Channel);
        GiveBack(session);
    }

    private void GiveBack(Their session, TheirLink? link = null)
    {
        foreach (var (id, given) in session.InHand.Where(g => link is null || g.Value.Link == link).Reverse().ToList())
        {
            session.InHand.Remove(id);
            session.Settled.Add(id);
            Count(given.Queue, -1);
            peer.Put(given.Queue, given.Message, isBack: true);
        }
    }

    /// <summary>Hands over what may be handed over.</summary>
    private async Task PumpAsync(Their session)
    {
        var isBusy = true;
        while (isBusy && !session.IsGone)
        {
            isBusy = false;
            foreach (var (handle, link) in session.Links.ToList())
            {
                if (session.IsGone || link.IsGone || !link.Receives || session.Window == 0
                    || (link.Credit == 0 && link.Sending is null)) continue;
                if (link.Sending is null && peer.Take(link.Address) is { } message) Start(session, link, message);
                if (link.Sending is null) continue;
                isBusy = true;
                do await PartAsync(session, link);
                while (link.Sending is not null && !habits.Interleaves && session.Window > 0);
                if (link.Sending is null) await MaybeBreakAsync(session, link, handle);
            }
        }
    }

    private void Start(Their session, TheirLink link, byte[] message)
    {
        (link.Sending, link.Sent, link.IsSettled) = (message, 0, habits.Chance(habits.Settles));
        link.Delivery = session.NextDelivery;
        unchecked { session.NextDelivery++; }
        if (link.IsSettled)
        {
            session.Settled.Add(link.Delivery);
            return;
        }
        Count(link.Address, 1);
        session.InHand.Add(link.Delivery, (link, link.Address, message));
    }

    private async Task PartAsync(Their session, TheirLink link)
    {
        var (isFirst, left) = (link.Sent == 0, link.Sending!.Length - link.Sent);
        var room = (int)Math.Min(theirs!.MaxFrameSize, 64 * 1024) - 100;
        var part = Math.Min(room, habits.Chance(habits.Cuts) ? habits.Next(left + 1) : left);
        var aborts = part < left && habits.Chance(habits.Aborts);
        unchecked { session.NextOutgoing++; }
        session.Window--;
        await SendAsync(session.Mine, Transfer.Shape, new Transfer
        {
            Handle = link.Mine, DeliveryId = isFirst || habits.Chance(0.3) ? link.Delivery : null,
            Tag = isFirst ? DeliveryTag.Of(link.Delivery) : null, MessageFormat = isFirst ? 0u : null,
            Settled = link.IsSettled ? true : null, More = part < left && !aborts, Aborted = aborts,
        }, link.Sending.AsMemory(link.Sent, part));
        link.Sent += part;
        if (part < left && !aborts) return;
        link.Credit -= Math.Min(link.Credit, 1);
        unchecked { link.Count++; }
        var message = link.Sending;
        link.Sending = null;
        if (!aborts) return;
        if (session.InHand.Remove(link.Delivery)) Count(link.Address, -1);
        peer.Put(link.Address, message, isBack: true);
    }

    private async Task MaybeBreakAsync(Their session, TheirLink link, uint handle)
    {
        if (habits.Breaks == 0 || !habits.Chance(0.05)) return;
        habits.Breaks--;
        var error = AmqpError.Of("amqp:internal-error", "broken off");
        switch (habits.Next(4))
        {
            case 0:
                link.IsGone = true;
                GiveBack(session, link);
                await SendAsync(
                    session.Mine, Detach.Shape, new Detach { Handle = link.Mine, Closed = true, Error = error });
                break;
            case 1:
                session.IsGone = true;
                sessions.Remove(session.Channel);
                isEnding.Add(session.Channel);
                GiveBack(session);
                await SendAsync(session.Mine, End.Shape, new End { Error = error });
                break;
            case 2:
                await SendAsync(0, Close.Shape, new Close { Error = error });
                Dispose();
                break;
            default:
                Dispose();
                break;
        }
    }

    private Task FlowAsync(Their session, TheirLink? link) => SendAsync(session.Mine, FlowState.Shape, new FlowState
    {
        NextIncomingId = session.NextIncoming, IncomingWindow = session.Left, NextOutgoingId = session.NextOutgoing,
        OutgoingWindow = 100, Handle = link?.Mine, DeliveryCount = link?.Count, LinkCredit = link?.Credit,
        Available = link is { Receives: true } && habits.SaysAvailable ? (uint)peer.Waiting(link.Address) : null,
    });

    private TheirLink? LinkOf(Their session, uint handle)
    {
        if (session.Links.TryGetValue(handle, out var link)) return link;
        Complain($"something for handle {handle}, to which no link is attached");
        return null;
    }

    private void Count(string queue, int change)
    {
        Interlocked.Add(ref inHand, change);
        byQueue.AddOrUpdate(queue, change, (_, count) => count + change);
    }

    private void Complain(string what) => peer.Complaints.Enqueue(what);

    private async Task SendAsync<T>(
        ushort channel, Composite<T> shape, T performative, ReadOnlyMemory<byte> payload = default, byte type = 0)
        where T : class, new()
    {
        using var buffer = new WireBuffer();
        var start = Frame.Begin(buffer, type, channel);
        shape.Write(buffer, performative);
        buffer.Bytes(payload.Span);
        Frame.End(buffer, start);
        await stream.WriteAsync(buffer.Written.ToArray());
    }

    private static (byte Code, object Performative, byte[] Payload) Parse(byte[] body)
    {
        var reader = new WireReader(body);
        var code = (byte)Descriptor.Read(ref reader, Performative.CodeOf)!;
        var performative = Talk.Read(code, ref reader);
        return (code, performative, reader.Rest.ToArray());
    }

    /// <summary>A session of the other end.</summary>
    private sealed class Their(ushort channel, ushort mine)
    {
        public ushort Channel => channel;

        public ushort Mine => mine;

        public uint NextOutgoing, NextIncoming, Window, Left, NextDelivery, NextHandle = 1_000_000;

        public bool IsGone;

        public Dictionary<uint, TheirLink> Links { get; } = [];

        public Dictionary<uint, (TheirLink Link, string Queue, byte[] Message)> InHand { get; } = [];

        public HashSet<uint> Settled { get; } = [];

        public List<(uint Id, DeliveryState State)> ToSettle { get; } = [];
    }

    /// <summary>A link of it.</summary>
    private sealed class TheirLink(string address, bool receives, uint mine)
    {
        public string Address => address;

        public bool Receives => receives;

        public uint Mine => mine;

        public uint Count, Credit, Delivery;

        public bool IsGone, IsSettled;

        public List<byte> Partial { get; } = [];

        public byte[]? Sending;

        public int Sent;
    }
}
