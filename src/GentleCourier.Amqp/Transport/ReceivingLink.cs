using System.Diagnostics;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;
using GentleCourier.Engines;

namespace GentleCourier.Amqp.Transport;

/// <summary>A message that has come whole.</summary>
/// <param name="Id">Its number within the session, by which it is settled.</param>
/// <param name="Message">Its bytes: sections, as in part 3, section 3.2.</param>
internal readonly record struct Arrival(uint Id, ReadOnlyMemory<byte> Message)
{
    /// <summary>How many bytes it has, where it was too large and only its head was kept; otherwise null.</summary>
    public long? Whole { get; init; }

    /// <summary>The peer has settled it already: nothing brings it again.</summary>
    public bool IsSettled { get; init; }
}

/// <summary>What becomes of a message that has come.</summary>
internal readonly record struct Verdict(uint Id, DeliveryState State);

/// <summary>
/// Receives messages from an address, as many as credit is given for; each is settled by the receiver, in one step
/// (section 2.6.12).
/// </summary>
internal sealed class ReceivingLink(Session session, string name, string address, uint handle)
    : Link(session, name, address, handle)
{
    private const int TopUps = 8;

    // Of a message that is too large so much is kept: what says whose it is stands before its body.
    private const int HeadSize = 64 * 1024;

    // Until it is known how large they are.
    private const uint FirstGrant = 256;

    // What large messages have left behind is not kept.
    private const int LargestKept = 128 * 1024;

    // How often the peer is asked for an answer, by which it is known how far away it is.
    private static readonly TimeSpan AskEvery = TimeSpan.FromSeconds(1);

    private readonly Queue<Arrival> ready = [];
    private WireBuffer partial = new();
    private readonly Questions questions = new();
    private uint deliveryCount, credit, largestGrant, excess;
    private uint? partialId, available;
    // How much of it has come, where that is more than is kept of it.
    private long whole;
    // How many bytes lie here, and how large messages are of late.
    private long bytes;
    private double size;
    private bool isWithdrawn, isPartialSettled;
    private long askedAt;
    // Up to which delivery credit went when the peer was asked; null once it has answered.
    private uint? asked;
    private TimeSpan roundTrip;
    private TaskCompletionSource? waiting, drained, learnt;

    public override bool IsReceiver => true;

    /// <summary>
    /// How long the peer took to answer this link lately, by the machine's clock: its attaching, and since then a flow
    /// that asked for an answer. A peer need not give one (section 2.7.4).
    /// </summary>
    public TimeSpan RoundTrip
    {
        get
        {
            lock (Gate) return roundTrip;
        }
    }

    /// <summary>How many more messages the peer may send at this moment.</summary>
    public uint Credit
    {
        get
        {
            lock (Gate) return credit;
        }
    }

    /// <summary>
    /// Lets so many messages lie here or be under way, once half of them are used up, or where they are too many: a
    /// frame for each message would cost as much as that.
    /// </summary>
    public void TopUp(uint messages)
    {
        lock (Gate)
        {
            messages = Math.Min(messages, Fitting);
            var all = credit + Here;
            isWithdrawn = false;
            if (all > messages || all <= messages / 2) Grant(messages);
        }
    }

    /// <summary>Lets so many messages lie here or be under way: what has come and nobody has taken counts.</summary>
    public void Grant(uint messages)
    {
        lock (Gate)
        {
            messages -= Math.Min(messages, Here);
            isWithdrawn = false;
            if (!IsUp || credit == messages) return;
            (credit, largestGrant, excess) = (messages, Math.Max(largestGrant, messages), 0);
            var asks = Stopwatch.GetElapsedTime(askedAt) >= AskEvery;
            if (asks) (asked, askedAt) = (unchecked(deliveryCount + credit), Stopwatch.GetTimestamp());
            SendFlow(drain: false, echo: asks);
            Session.Connection.Flush();
        }
    }

    /// <summary>
    /// Takes all credit back, and releases what has come and nobody has taken, and what still comes before there is
    /// credit again.
    /// </summary>
    public void Withdraw()
    {
        lock (Gate)
        {
            if (!IsUp || (isWithdrawn && ready.Count == 0)) return;
            isWithdrawn = true;
            if (credit > 0)
            {
                (credit, excess) = (0, 0);
                SendFlow(drain: false, echo: false);
            }
            for (var left = ready.Count; left > 0; left--)
            {
                var arrival = Dequeue();
                // What cannot be given back stays.
                if (arrival.IsSettled) Enqueue(arrival);
                else Release(arrival.Id);
            }
            Session.Connection.Flush();
        }
    }

    /// <summary>Waits until a message has come, and takes up to so many of those that have.</summary>
    /// <param name="most">How many at the most, from 1 on.</param>
    /// <param name="bytes">How many bytes at the most; but one message, however large.</param>
    /// <param name="cancellationToken">Ends the wait; nothing has been taken.</param>
    /// <exception cref="AmqpException">The link is gone, and with it what had come.</exception>
    public async Task<IReadOnlyList<Arrival>> ReceiveAsync(int most, int bytes, CancellationToken cancellationToken)
    {
        while (true)
        {
            Task next;
            lock (Gate)
            {
                if (WhyGone is not null) throw WhyGone;
                if (ready.Count > 0) return TakeReady(most, bytes);
                waiting ??= new(TaskCreationOptions.RunContinuationsAsynchronously);
                next = waiting.Task;
            }
            await next.WaitAsync(cancellationToken).ConfigureAwait(false);
        }
    }

    /// <summary>Takes up to so many of the messages that have come; maybe none.</summary>
    /// <exception cref="AmqpException">The link is gone, and with it what had come.</exception>
    public IReadOnlyList<Arrival> TryReceive(int most, int bytes = int.MaxValue)
    {
        lock (Gate) return WhyGone is null ? TakeReady(most, bytes) : throw WhyGone;
    }

    /// <summary>Takes what has come and was settled beforehand; also from a link that is gone.</summary>
    public IReadOnlyList<Arrival> TakeSettled()
    {
        lock (Gate)
        {
            List<Arrival> settled = [.. ready.Where(static a => a.IsSettled)];
            ready.Clear();
            bytes = 0;
            return settled;
        }
    }

    /// <summary>
    /// Says what became of messages: ranges of one outcome in one frame each. It does not wait for the peer, who takes
    /// them in the order of what it is sent.
    /// </summary>
    /// <exception cref="AmqpException">The link is gone, and with it what had come.</exception>
    public void Settle(IEnumerable<Verdict> verdicts)
    {
        lock (Gate)
        {
            if (WhyGone is not null) throw WhyGone;
            foreach (var (first, last, state) in Ranges.Of(verdicts))
            {
                Session.Send(Disposition.Shape, new Disposition
                {
                    IsReceiver = true, First = first, Last = first == last ? null : last, Settled = true, State = state,
                });
            }
            Session.Connection.Flush();
        }
    }

    /// <summary>
    /// Waits until the peer has heard what it was sent on this link before: it takes that in order, and answers what is
    /// asked behind it. It need not answer (section 2.7.4): after a limit nothing is waited for, and for a while one
    /// that was silent is not asked again.
    /// </summary>
    /// <exception cref="AmqpException">The link is gone.</exception>
    public async Task HeardAsync(CancellationToken cancellationToken)
    {
        Task answer;
        lock (Gate)
        {
            if (WhyGone is not null) throw WhyGone;
            if (questions.IsPeerSilent) return;
            answer = questions.Ask(unchecked(deliveryCount + credit));
            SendFlow(drain: false, echo: true);
            Session.Connection.Flush();
        }
        try
        {
            var settings = Session.Connection.Settings;
            await answer.WaitAsync(settings.AnswerWithin, settings.Clock, cancellationToken).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            lock (Gate) questions.Unanswered();
        }
    }

    /// <summary>Takes all credit back: afterwards no further message comes (section 2.6.7).</summary>
    /// <exception cref="AmqpException">The peer has not answered in time, or the link is gone.</exception>
    public async Task DrainAsync(CancellationToken cancellationToken)
    {
        Task done;
        lock (Gate)
        {
            if (WhyGone is not null) throw WhyGone;
            if (credit == 0) return;
            drained ??= new(TaskCreationOptions.RunContinuationsAsynchronously);
            done = drained.Task;
            SendFlow(drain: true, echo: false);
            Session.Connection.Flush();
        }
        await Session.Connection.Settings.AnsweredAsync(
            done, $"the draining of '{Address}'", cancellationToken).ConfigureAwait(false);
    }

    /// <summary>How many messages wait at the address, as the peer says in answer to this question.</summary>
    /// <param name="within">How long it may take: a peer need not answer.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>Null where it does not say (section 2.7.4).</returns>
    /// <exception cref="AmqpException">The link is gone.</exception>
    public async Task<uint?> AvailableAsync(TimeSpan within, CancellationToken cancellationToken)
    {
        Task answer;
        lock (Gate)
        {
            if (WhyGone is not null) throw WhyGone;
            learnt ??= new(TaskCreationOptions.RunContinuationsAsynchronously);
            answer = learnt.Task;
            SendFlow(drain: false, echo: true);
            Session.Connection.Flush();
        }
        try
        {
            await answer.WaitAsync(within, Session.Connection.Settings.Clock, cancellationToken).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            return null;
        }
        lock (Gate) return available;
    }

    public override void SendAttach()
    {
        askedAt = Stopwatch.GetTimestamp();
        Session.Send(Attach.Shape, Ours());
    }

    private Attach Ours() => new()
    {
        Name = Name,
        Handle = Handle,
        IsReceiver = true,
        SenderSettles = SettleMode.Unsettled,
        Source = new Source
        {
            Address = Address,
            Outcomes = [Accepted.Shape.Name, Rejected.Shape.Name, Released.Shape.Name, Modified.Shape.Name],
        },
        Target = new Target(),
    };

    public override void TakeFlow(FlowState flow)
    {
        if (!IsUp) return;
        // A flow that was under way before knows of less credit: both sides have the same sum of what was sent and what
        // may be sent, once it has come.
        if (asked is { } limit && flow is { DeliveryCount: { } sent, LinkCredit: { } left }
            && unchecked(sent + left) == limit)
            (roundTrip, asked) = (Stopwatch.GetElapsedTime(askedAt), null);
        if (flow is { DeliveryCount: { } had, LinkCredit: { } more }) questions.Answered(unchecked(had + more));
        // What a sender counts as sent may come behind its flow; only credit that it gives back is believed at once.
        if (drained is not null && flow.DeliveryCount is { } count && unchecked(count - deliveryCount) == credit)
            (deliveryCount, credit) = (count, 0);
        available = flow.Available;
        Complete(ref learnt);
        if (credit == 0) Complete(ref drained);
        if (flow.Echo) SendFlow(drain: false, echo: false);
    }

    /// <summary>A message, or a part of one.</summary>
    public void TakeTransfer(Transfer transfer, ReadOnlySpan<byte> payload)
    {
        // What was under way when this end detached.
        if (!IsUp) return;
        if (partialId is null)
        {
            if (!Begins(transfer)) return;
        }
        else if (transfer.DeliveryId is { } id && id != partialId)
        {
            Fail(Conditions.IllegalState, $"delivery {id} began in the middle of delivery {partialId}");
            return;
        }
        isPartialSettled |= transfer.Settled == true;
        if (transfer.Aborted)
        {
            EndPartial();
            // It has used up credit all the same (section 2.6.14), and whoever waits waits for another.
            if (!isWithdrawn && credit < largestGrant) Grant(credit + Here + 1);
        }
        else
        {
            payload = CutToSize(payload);
            if (transfer.More) partial.Bytes(payload);
            else Arrived(payload);
        }
    }

    /// <summary>Of what is too large only the head is kept; the rest is let pass.</summary>
    private ReadOnlySpan<byte> CutToSize(ReadOnlySpan<byte> payload)
    {
        var come = Math.Max(whole, partial.Length) + payload.Length;
        if (come <= Session.Connection.Settings.MaxMessageSize) return payload;
        whole = come;
        var head = Math.Min(HeadSize, Session.Connection.Settings.MaxMessageSize);
        if (partial.Length > head) partial.CutTo(head);
        return payload[..Math.Min(payload.Length, head - partial.Length)];
    }

    private void EndPartial()
    {
        (partialId, whole, isPartialSettled) = (null, 0, false);
        partial.CutTo(0);
        if (partial.Capacity <= LargestKept) return;
        partial.Dispose();
        partial = new();
    }

    protected override void Begun(Attach attach)
    {
        roundTrip = Stopwatch.GetElapsedTime(askedAt);
        deliveryCount = attach.InitialDeliveryCount ?? 0;
        if (attach.SenderSettles == SettleMode.Settled)
            Fail(Conditions.NotImplemented,
                "the peer settles what it sends beforehand, and so would lose what is not handled");
    }

    protected override void Ended(AmqpException why)
    {
        // What was settled beforehand comes by no other.
        for (var left = ready.Count; left > 0; left--)
            if (Dequeue() is { IsSettled: true } settled) Enqueue(settled);
        partial.Dispose();
        Complete(ref waiting);
        Fail(ref drained, why);
        Fail(ref learnt, why);
        questions.Fail(why);
    }

    private bool Begins(Transfer transfer)
    {
        if (transfer.DeliveryId is not { } id)
        {
            Fail(Conditions.InvalidField, "a delivery began without its delivery-id");
            return false;
        }
        (partialId, deliveryCount) = (id, unchecked(deliveryCount + 1));
        if (credit > 0)
        {
            credit--;
            return true;
        }
        // There are brokers that send again what is on its way whenever credit is topped up. More than of some top-ups
        // in a row is no mistake of counting, and would fill the memory.
        if (excess++ < (ulong)largestGrant * TopUps) return true;
        Fail(Conditions.TransferLimitExceeded, "messages came for which there was no credit");
        return false;
    }

    private void Arrived(ReadOnlySpan<byte> payload)
    {
        var id = partialId!.Value;
        if (isWithdrawn && !isPartialSettled)
        {
            Release(id);
        }
        else
        {
            byte[] message = [.. partial.Written, .. payload];
            Enqueue(new(id, message) { Whole = whole > 0 ? whole : null, IsSettled = isPartialSettled });
            size += size == 0 ? message.Length : (message.Length - size) / 8;
            Complete(ref waiting);
            // More has come than was to be thought: nothing further until that is taken.
            if (bytes >= Budget.HeldBytes && credit > 0)
            {
                (credit, excess) = (0, 0);
                SendFlow(drain: false, echo: false);
            }
        }
        EndPartial();
        if (credit == 0) Complete(ref drained);
    }

    /// <summary>So many of the size of late fit into memory; at first nothing is known of that.</summary>
    private uint Fitting => size == 0 ? FirstGrant : (uint)Math.Clamp(Budget.HeldBytes / size, 1, int.MaxValue);

    private uint Here => (uint)ready.Count + (partialId is null ? 0u : 1u);

    private void Release(uint id) => Session.Send(Disposition.Shape, new Disposition
    {
        IsReceiver = true, First = id, Settled = true, State = DeliveryState.Released,
    });

    private List<Arrival> TakeReady(int most, int bytes)
    {
        var taken = new List<Arrival>(Math.Min(most, ready.Count));
        while (taken.Count < most && ready.TryPeek(out var next) && (taken.Count == 0 || next.Message.Length <= bytes))
        {
            taken.Add(Dequeue());
            bytes -= next.Message.Length;
        }
        return taken;
    }

    private void Enqueue(Arrival arrival)
    {
        ready.Enqueue(arrival);
        bytes += arrival.Message.Length;
    }

    private Arrival Dequeue()
    {
        var arrival = ready.Dequeue();
        bytes -= arrival.Message.Length;
        return arrival;
    }

    private void SendFlow(bool drain, bool echo) => Session.SendFlow(new FlowState
    {
        Handle = Handle, DeliveryCount = deliveryCount, LinkCredit = credit, Drain = drain, Echo = echo,
    });

    private static void Fail(ref TaskCompletionSource? source, AmqpException why)
    {
        source?.TrySetException(why);
        // Not everybody has gone on waiting for it.
        _ = source?.Task.Exception;
        source = null;
    }

    private static void Complete(ref TaskCompletionSource? source)
    {
        source?.TrySetResult();
        source = null;
    }
}
