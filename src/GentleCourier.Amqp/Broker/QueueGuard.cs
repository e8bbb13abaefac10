using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// There are peers that accept what they then drop, since the queue is not there: so each that is published to is
/// watched by a link that receives nothing, and is gone with it. After a moment another takes its place, behind whoever
/// has come meanwhile, or none, where nothing more is published: a queue may have a single active receiver, and it must
/// not be that for long. Thread-safe.
/// </summary>
internal sealed class QueueGuard(Connections connections, string address) : IAsyncDisposable
{
    private static readonly TimeSpan Stay = TimeSpan.FromSeconds(1);

    private readonly CancellationTokenSource over = new();
    private readonly Lock gate = new();
    private Watch? watch;
    private Task coming = Task.CompletedTask, life = Task.CompletedTask;
    private bool isUsed, mayNotLook;

    /// <summary>Why the queue is not there any more; null as long as nothing says so.</summary>
    public AmqpException? WhyGone
    {
        get
        {
            lock (gate) return watch?.Link.WhyGone;
        }
    }

    /// <summary>Ends once the queue is known to be there, which it is at once while somebody watches.</summary>
    /// <exception cref="AmqpException">It is not there, or it cannot be asked.</exception>
    public Task WatchAsync()
    {
        lock (gate)
        {
            isUsed = true;
            if (watch?.Link.WhyGone is { } why) return Task.FromException(why);
            if (mayNotLook || watch is not null) return Task.CompletedTask;
            return coming.IsCompleted ? coming = ComeAsync() : coming;
        }
    }

    public async ValueTask DisposeAsync()
    {
        await over.CancelAsync().ConfigureAwait(false);
        await coming.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        await life.ConfigureAwait(false);
        over.Dispose();
    }

    private async Task ComeAsync()
    {
        try
        {
            var come = await AttachAsync().ConfigureAwait(false);
            lock (gate) watch = come;
            life = LiveAsync(come);
        }
        catch (AmqpException e) when (e.Condition is Conditions.UnauthorizedAccess or Conditions.NotAllowed)
        {
            // Who may only send has to trust that the queue is there.
            lock (gate) mayNotLook = true;
        }
    }

    /// <summary>There are peers that forget a receiver only when its session ends.</summary>
    private async Task<Watch> AttachAsync()
    {
        var session = await connections.BeginSessionAsync(over.Token).ConfigureAwait(false);
        try
        {
            return new Watch(session, await session.AttachReceiverAsync($"{Guid.NewGuid():n}", address, over.Token)
                .ConfigureAwait(false));
        }
        catch
        {
            await session.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    private async Task LiveAsync(Watch current)
    {
        while (await StaysAsync(current).ConfigureAwait(false))
        {
            try
            {
                var next = await AttachAsync().ConfigureAwait(false);
                var last = current;
                lock (gate)
                {
                    // What is gone by itself stays, to be seen.
                    if (current.Link.WhyGone is null) (watch, current) = (next, next);
                    else last = next;
                }
                await last.Session.DisposeAsync().ConfigureAwait(false);
            }
            catch (Exception)
            {
                // Then the one that is there goes on, or says why not.
            }
        }
        await current.Session.DisposeAsync().ConfigureAwait(false);
    }

    /// <summary>Whether somebody is to watch after a moment, too.</summary>
    private async Task<bool> StaysAsync(Watch current)
    {
        await Task.Delay(Stay, over.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        lock (gate)
        {
            if (current.Link.WhyGone is not null) return false;
            var stays = isUsed && !over.IsCancellationRequested;
            isUsed = false;
            if (!stays) watch = null;
            return stays;
        }
    }

    private sealed record Watch(Session Session, ReceivingLink Link);
}
