using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Transport;

/// <summary>
/// Sends messages to an address; each is settled once the peer has said what became of it. As many are on their way at
/// once as the peer gives credit for.
/// </summary>
internal sealed class SendingLink(Session session, string name, string address, uint handle)
    : Link(session, name, address, handle)
{
    // So many are written before the first of them may leave.
    private const int Slice = 64;

    private readonly Queue<Sending> waiting = [];
    private readonly WireBuffer message = new();
    private readonly Transfer transfer = new();
    private uint deliveryCount, credit;
    private bool drains;
    private int sent;
    private (Sending Sending, int Index)? current;

    public override bool IsReceiver => false;

    /// <summary>How many more messages the peer takes at this moment.</summary>
    public uint Credit
    {
        get
        {
            lock (Gate) return credit;
        }
    }

    /// <summary>Sends messages in their order, and waits until it is known what became of each.</summary>
    /// <param name="items">The messages.</param>
    /// <param name="write">
    /// Writes one as a message, under the lock of the connection: it must not wait. What it throws is that message's
    /// outcome.
    /// </param>
    /// <param name="within">How long it may take altogether.</param>
    /// <param name="cancellationToken">Ends the wait; what is not known to be taken may have been.</param>
    public async Task<Sent> SendAsync<T>(
        IReadOnlyList<T> items, Action<T, WireBuffer> write, TimeSpan within, CancellationToken cancellationToken)
    {
        if (items.Count == 0) return new Sent([], null);
        var sending = new Sending<T>(items, write);
        lock (Gate)
        {
            if (WhyGone is not null) return new Sent(sending.Outcomes, WhyGone);
            waiting.Enqueue(sending);
        }
        while (PumpSlice())
        {
            // Whoever takes to the peer what has been written needs the lock.
        }
        try
        {
            await sending.Done.WaitAsync(within, Session.Connection.Settings.Clock, cancellationToken)
                .ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            lock (Gate)
            {
                sending.Lose(new AmqpException(WhyLate(sending, within)));
                Pump();
            }
        }
        catch (OperationCanceledException)
        {
            lock (Gate)
            {
                sending.IsAbandoned = true;
                Pump();
            }
            throw;
        }
        return new Sent(sending.Outcomes, sending.WhyNot, sending.Next);
    }

    public override void SendAttach() => Session.Send(Attach.Shape, new Attach
    {
        Name = Name,
        Handle = Handle,
        IsReceiver = false,
        SenderSettles = SettleMode.Unsettled,
        Source = new Source(),
        Target = new Target { Address = Address },
        InitialDeliveryCount = deliveryCount,
    });

    public override void TakeFlow(FlowState flow)
    {
        if (!IsUp) return;
        // Without a delivery-count the peer has seen none of them: then the initial one counts (section 2.6.7).
        var underWay = unchecked(deliveryCount - (flow.DeliveryCount ?? 0));
        credit = (flow.LinkCredit ?? 0) - Math.Min(flow.LinkCredit ?? 0, underWay);
        drains = flow.Drain;
        Pump();
        if (flow.Echo) SendFlow();
    }

    /// <summary>Sends what may be sent. To be called under the lock.</summary>
    public void Pump() => Pump(int.MaxValue);

    private bool PumpSlice()
    {
        lock (Gate)
        {
            var isMore = Pump(Slice);
            Session.Connection.Flush();
            return isMore;
        }
    }

    /// <returns>Whether so many have been sent, and there may be more.</returns>
    private bool Pump(int most)
    {
        if (!IsUp) return false;
        while (current is not null || TakeNext())
        {
            if (!Session.MaySend) return false;
            sent += Session.SendTransfer(transfer, message.Written[sent..]);
            if (sent < message.Length) continue;
            current = null;
            if (--most == 0) return true;
        }
        if (!drains || credit == 0 || waiting.Count > 0) return false;
        // Nothing is left to send: the credit is used up as if it had been (section 2.6.7).
        (deliveryCount, credit) = (unchecked(deliveryCount + credit), 0);
        SendFlow();
        return false;
    }

    protected override void Begun(Attach attach)
    {
    }

    protected override void Ended(AmqpException why)
    {
        // Of what is on its way the session knows.
        Session.LoseSent(this, why);
        foreach (var sending in waiting) sending.Lose(why);
        waiting.Clear();
        current = null;
        message.Dispose();
    }

    /// <summary>Writes the next message into the buffer, where there is one and the peer takes it.</summary>
    private bool TakeNext()
    {
        while (waiting.TryPeek(out var sending))
        {
            if (!sending.HasMore)
            {
                waiting.Dequeue();
                continue;
            }
            if (credit == 0 || !Session.MaySend) return false;
            var index = sending.Next++;
            if (!TryWrite(sending, index)) continue;
            var delivery = Session.Deliver(new(this, sending, index));
            (transfer.Handle, transfer.DeliveryId, transfer.Tag) = (Handle, delivery, DeliveryTag.Of(deliveryCount));
            (transfer.MessageFormat, transfer.Settled) = (0, false);
            (deliveryCount, credit, sent, current) = (unchecked(deliveryCount + 1), credit - 1, 0, (sending, index));
            return true;
        }
        return false;
    }

    private bool TryWrite(Sending sending, int index)
    {
        message.CutTo(0);
        try
        {
            sending.Write(index, message);
        }
        catch (Exception e)
        {
            sending.Set(index, new Rejected { Error = AmqpError.Of(Conditions.InvalidField, Words.Of(e)) });
            return false;
        }
        if (Peer!.MaxMessageSize is not (> 0 and var most) || (ulong)message.Length <= most) return true;
        sending.Set(index, new Rejected
        {
            Error = AmqpError.Of(
                Conditions.MessageSizeExceeded,
                    $"the message has {message.Length} bytes, and '{Address}' takes {most}"),
        });
        return false;
    }

    private void SendFlow() => Session.SendFlow(new FlowState
    {
        Handle = Handle,
        DeliveryCount = deliveryCount,
        LinkCredit = credit,
        Available = (uint)waiting.Sum(s => s.Outcomes.Length - s.Next),
        Drain = drains,
    });

    private string WhyLate(Sending sending, TimeSpan within) =>
        $"{Session.Connection.Settings.Peer} has not said within {within.TotalSeconds:0.#} s what became of "
        + $"messages to '{Address}': "
        + (sending.Next < sending.Outcomes.Length
            ? credit == 0 ? "it gives no credit for more" : "they have not all left yet" : "it has them");
}
