using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// Looks at queues by links that never have credit, and are detached in the same look: a queue may have a single active
/// receiver, and none of these is to be it for longer than that. All of them share a session. Thread-safe.
/// </summary>
internal sealed class Looks(Connections connections, AmqpAddress address) : IDisposable
{
    private const int AtOnce = 64;

    private readonly SemaphoreSlim turn = new(1, 1);
    private Session? session;

    /// <summary>What a look at each queue brings; the default where the queue is not there, or not ours.</summary>
    /// <exception cref="AmqpException">The broker cannot be asked.</exception>
    public async Task<IReadOnlyList<T?>> EachAsync<T>(
        IReadOnlyList<string> queues, Func<ReceivingLink, string, Task<T?>> look, CancellationToken cancellationToken)
    {
        await turn.WaitAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            var seen = new T?[queues.Count];
            for (var i = 0; i < queues.Count;)
            {
                var ours = await SessionAsync(cancellationToken).ConfigureAwait(false);
                var (first, count) = (i, (int)Math.Min(queues.Count - i, Math.Min(AtOnce, ours.HandleMax + 1L)));
                var looks = Enumerable.Range(first, count).Select(
                    n => LookAsync(ours, queues[n], look, isAlone: count == 1, cancellationToken)).ToList();
                var looked = await Task.WhenAll(looks).ConfigureAwait(false);
                for (var n = 0; n < count; n++)
                    seen[first + n] = looked[n].HasLooked ? looked[n].Value
                        : await AloneAsync(queues[first + n], look, cancellationToken).ConfigureAwait(false);
                i += count;
            }
            return seen;
        }
        finally
        {
            turn.Release();
        }
    }

    public void Dispose() => turn.Dispose();

    private async Task<Session> SessionAsync(CancellationToken cancellationToken)
    {
        if (session is { IsOver: false }) return session;
        return session = await connections.BeginSessionAsync(cancellationToken).ConfigureAwait(false);
    }

    /// <summary>
    /// There are peers that end the session of whoever asks for a queue that is not there, and all in it.
    /// </summary>
    private async Task<T?> AloneAsync<T>(
        string queue, Func<ReceivingLink, string, Task<T?>> look, CancellationToken cancellationToken)
    {
        var ours = await SessionAsync(cancellationToken).ConfigureAwait(false);
        var looked = await LookAsync(ours, queue, look, isAlone: true, cancellationToken).ConfigureAwait(false);
        return looked.Value;
    }

    /// <returns>False: the session ended meanwhile, maybe for the sake of another.</returns>
    private async Task<(bool HasLooked, T? Value)> LookAsync<T>(
        Session ours, string queue, Func<ReceivingLink, string, Task<T?>> look, bool isAlone,
        CancellationToken cancellationToken)
    {
        ReceivingLink? link = null;
        try
        {
            link = await ours.AttachReceiverAsync(
                $"look at {queue} {Guid.NewGuid():n}", address.Of(queue), cancellationToken).ConfigureAwait(false);
            return (true, await look(link, queue).ConfigureAwait(false));
        }
        catch (AmqpException e) when (e.Condition is Conditions.NotFound or Conditions.UnauthorizedAccess
            && (isAlone || !ours.IsOver))
        {
            return (true, default);
        }
        catch (AmqpException) when (!isAlone && ours.IsOver)
        {
            return (false, default);
        }
        finally
        {
            if (link is not null) await link.DisposeAsync().ConfigureAwait(false);
        }
    }
}
