using GentleCourier.Amqp.Performatives;

namespace GentleCourier.Amqp.Transport;

/// <summary>One end of a link (section 2.6). Once it is gone it stays gone: attach another one. Thread-safe.</summary>
internal abstract class Link(Session session, string name, string address, uint handle) : IAsyncDisposable
{
    private readonly TaskCompletionSource attached = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly TaskCompletionSource gone = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private bool hasDetached, isRefused;

    public string Name => name;

    /// <summary>The peer's name for where messages go or come from.</summary>
    public string Address => address;

    public uint Handle => handle;

    /// <summary>The peer's handle of it; null before it has attached its end.</summary>
    public uint? RemoteHandle { get; private set; }

    public Task Attached => attached.Task;

    /// <summary>Ends when the link is gone, whyever; it never fails.</summary>
    public Task Gone => gone.Task;

    /// <summary>Why it is gone; null while it is not.</summary>
    public AmqpException? WhyGone { get; private set; }

    /// <summary>Whether this end receives.</summary>
    public abstract bool IsReceiver { get; }

    /// <summary>What the peer said of its end.</summary>
    public Attach? Peer { get; private set; }

    /// <summary>Whether frames may pass.</summary>
    protected bool IsUp => Peer is not null && !isRefused && !hasDetached && WhyGone is null;

    public Connection Connection => session.Connection;

    protected Session Session => session;

    protected Lock Gate => session.Connection.Gate;

    protected string Description => $"the link to '{address}' of {session.Connection.Settings.Peer}";

    /// <summary>Detaches it in good order, within the limit of an answer.</summary>
    public async ValueTask DisposeAsync()
    {
        End($"{Description} was detached here");
        var settings = session.Connection.Settings;
        // Some peers never answer it; the link is over all the same.
        await Gone.WaitAsync(settings.AnswerWithin, settings.Clock)
            .ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    /// <summary>Sends this end's attach. To be called under the lock.</summary>
    public abstract void SendAttach();

    public void TakeAttach(Attach attach)
    {
        (RemoteHandle, Peer) = (attach.Handle, attach);
        // The peer has no such place: it says why in the detach that follows (section 2.6.3).
        isRefused = IsReceiver ? attach.Source is null : attach.Target is null;
        if (isRefused || hasDetached) return;
        Begun(attach);
        if (!hasDetached) attached.TrySetResult();
    }

    public void TakeDetach(Detach detach)
    {
        var why = AmqpException.Of($"{Description} was {(isRefused ? "refused" : "detached by the peer")}",
            detach.Error);
        if (!hasDetached) SendDetach(null);
        session.Forget(this);
        Lose(why);
        gone.TrySetResult();
    }

    /// <summary>The session is over, and all with it.</summary>
    public void TakeEnd(AmqpException why)
    {
        Lose(why);
        gone.TrySetResult();
    }

    /// <summary>Takes back an attach to which no answer came.</summary>
    public void Abandon() => End($"{Description} was given up");

    public abstract void TakeFlow(FlowState flow);

    /// <summary>The peer has attached its end.</summary>
    protected abstract void Begun(Attach attach);

    /// <summary>It is gone: whoever waits for something learns it.</summary>
    protected abstract void Ended(AmqpException why);

    /// <summary>Detaches it because of what the peer has done.</summary>
    protected void Fail(string condition, string why) => Detach(
        AmqpError.Of(condition, why), new AmqpException($"{Description} was given up: {why}", condition));

    private void End(string why)
    {
        lock (Gate)
        {
            Detach(null, new AmqpException(why));
            session.Connection.Flush();
        }
    }

    private void Detach(AmqpError? error, AmqpException why)
    {
        if (hasDetached || WhyGone is not null) return;
        SendDetach(error);
        Lose(why);
    }

    private void SendDetach(AmqpError? error)
    {
        hasDetached = true;
        session.Send(Performatives.Detach.Shape, new Detach { Handle = handle, Closed = true, Error = error });
    }

    private void Lose(AmqpException why)
    {
        if (WhyGone is not null) return;
        WhyGone = why;
        attached.TrySetException(why);
        // Not everybody has waited for it.
        _ = attached.Task.Exception;
        Ended(why);
    }
}
