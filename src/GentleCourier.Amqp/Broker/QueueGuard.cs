using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// There are peers that accept what they then drop, since the queue is not there: so each that is published to is watched
/// by a link that receives nothing, and is gone with it. It leaves after a moment, and comes again while there is more to
/// publish: where a queue has a single active receiver, it must not be that for long. Thread-safe.
/// </summary>
internal sealed class QueueGuard(Connections connections, string address) : IAsyncDisposable
{
    private static readonly TimeSpan Stay = TimeSpan.FromSeconds(1);

    private readonly CancellationTokenSource over = new();
    private readonly Lock gate = new();
    private Session? session;
    private ReceivingLink? link;
    private Task leaving = Task.CompletedTask;
    private bool mayNotLook;

    /// <summary>Why the queue is not there any more; null as long as nothing says so.</summary>
    public AmqpException? WhyGone
    {
        get
        {
            lock (gate) return mayNotLook ? null : link?.WhyGone ?? session?.WhyOver;
        }
    }

    /// <summary>Sees that the queue is there. One caller at a time.</summary>
    /// <exception cref="AmqpException">It is not, or it cannot be asked.</exception>
    public async Task WatchAsync()
    {
        lock (gate)
            if (mayNotLook || link is { WhyGone: null }) return;
        await leaving.ConfigureAwait(false);
        try
        {
            session ??= await connections.BeginSessionAsync(over.Token).ConfigureAwait(false);
            var come = await session.AttachReceiverAsync($"{Guid.NewGuid():n}", address, over.Token)
                .ConfigureAwait(false);
            lock (gate) link = come;
            leaving = LeaveAsync(come);
        }
        catch (AmqpException e) when (e.Condition is Conditions.UnauthorizedAccess or Conditions.NotAllowed)
        {
            // Who may only send has to trust that the queue is there.
            lock (gate) mayNotLook = true;
        }
    }

    public async ValueTask DisposeAsync()
    {
        await over.CancelAsync().ConfigureAwait(false);
        await leaving.ConfigureAwait(false);
        if (session is not null) await session.DisposeAsync().ConfigureAwait(false);
        over.Dispose();
    }

    private async Task LeaveAsync(ReceivingLink come)
    {
        await Task.Delay(Stay, over.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        lock (gate)
        {
            // What is gone by itself stays, to be seen.
            if (come.WhyGone is not null) return;
            link = null;
        }
        await come.DisposeAsync().ConfigureAwait(false);
    }
}
