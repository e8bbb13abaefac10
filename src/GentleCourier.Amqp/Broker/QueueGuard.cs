using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// There are peers that accept what they then drop, since the queue is not there: so each that is published to is
/// watched by a link that receives nothing, and is gone with it. It leaves after a moment, and comes again while there
/// is more to publish: where a queue has a single active receiver, it must not be that for long. Thread-safe.
/// </summary>
internal sealed class QueueGuard(Connections connections, string address) : IAsyncDisposable
{
    private static readonly TimeSpan Stay = TimeSpan.FromSeconds(1);

    private readonly CancellationTokenSource over = new();
    private readonly Lock gate = new();
    private Watch? watch;
    private Task leaving = Task.CompletedTask;
    private bool mayNotLook;

    /// <summary>Why the queue is not there any more; null as long as nothing says so.</summary>
    public AmqpException? WhyGone
    {
        get
        {
            lock (gate) return watch?.Link.WhyGone;
        }
    }

    /// <summary>Sees that the queue is there. One caller at a time.</summary>
    /// <exception cref="AmqpException">It is not, or it cannot be asked.</exception>
    public async Task WatchAsync()
    {
        lock (gate)
            if (mayNotLook || watch is { Link.WhyGone: null }) return;
        await leaving.ConfigureAwait(false);
        var session = await connections.BeginSessionAsync(over.Token).ConfigureAwait(false);
        try
        {
            var link = await session.AttachReceiverAsync($"{Guid.NewGuid():n}", address, over.Token)
                .ConfigureAwait(false);
            lock (gate) watch = new Watch(session, link);
            leaving = LeaveAsync(watch);
        }
        catch (Exception e)
        {
            await session.DisposeAsync().ConfigureAwait(false);
            if (e is not AmqpException { Condition: Conditions.UnauthorizedAccess or Conditions.NotAllowed }) throw;
            // Who may only send has to trust that the queue is there.
            lock (gate) mayNotLook = true;
        }
    }

    public async ValueTask DisposeAsync()
    {
        await over.CancelAsync().ConfigureAwait(false);
        await leaving.ConfigureAwait(false);
        over.Dispose();
    }

    private async Task LeaveAsync(Watch come)
    {
        await Task.Delay(Stay, over.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        // What is gone by itself stays, to be seen.
        lock (gate)
            if (come.Link.WhyGone is null) watch = null;
        // There are peers that forget a receiver only when its session ends.
        await come.Session.DisposeAsync().ConfigureAwait(false);
    }

    private sealed record Watch(Session Session, ReceivingLink Link);
}
