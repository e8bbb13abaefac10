using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// Looks at queues by links that never have credit, and are gone with the same look: a queue may have a single active
/// receiver, and none of these is to be it for longer than that. Those of a look share a session, which ends with it:
/// there are peers that forget a receiver only then. Thread-safe.
/// </summary>
internal sealed class Looks(Connections connections, AmqpAddress address) : IDisposable
{
    private const int AtOnce = 64;

    private readonly SemaphoreSlim turn = new(1, 1);

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
                var session = await connections.BeginSessionAsync(cancellationToken).ConfigureAwait(false);
                await using var _ = session.ConfigureAwait(false);
                var (first, count) = (i, (int)Math.Min(queues.Count - i, Math.Min(AtOnce, session.HandleMax + 1L)));
                var looked = await Task.WhenAll(Enumerable.Range(first, count).Select(
                    n => LookAsync(session, queues[n], look, isAlone: count == 1, cancellationToken)))
                    .ConfigureAwait(false);
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

    /// <summary>
    /// There are peers that end the session of whoever asks for a queue that is not there, and all in it.
    /// </summary>
    private async Task<T?> AloneAsync<T>(
        string queue, Func<ReceivingLink, string, Task<T?>> look, CancellationToken cancellationToken)
    {
        var session = await connections.BeginSessionAsync(cancellationToken).ConfigureAwait(false);
        await using var _ = session.ConfigureAwait(false);
        var looked = await LookAsync(session, queue, look, isAlone: true, cancellationToken).ConfigureAwait(false);
        return looked.Value;
    }

    /// <returns>False: the session ended meanwhile, maybe for the sake of another.</returns>
    private async Task<(bool HasLooked, T? Value)> LookAsync<T>(
        Session session, string queue, Func<ReceivingLink, string, Task<T?>> look, bool isAlone,
        CancellationToken cancellationToken)
    {
        try
        {
            var link = await session.AttachReceiverAsync(
                $"look at {queue} {Guid.NewGuid():n}", address.Of(queue), cancellationToken).ConfigureAwait(false);
            return (true, await look(link, queue).ConfigureAwait(false));
        }
        catch (AmqpException e) when (e.Condition is Conditions.NotFound or Conditions.UnauthorizedAccess
            && (isAlone || !session.IsOver))
        {
            return (true, default);
        }
        catch (AmqpException) when (!isAlone && session.IsOver)
        {
            return (false, default);
        }
    }
}
