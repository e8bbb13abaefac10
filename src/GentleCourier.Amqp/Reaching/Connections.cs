using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Transport;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Amqp.Reaching;

/// <summary>
/// As many connections to a broker as its limit of sessions (channel-max, part 2, section 2.7.1) makes necessary: one,
/// as a rule. Thread-safe.
/// </summary>
internal sealed class Connections(AmqpAddress address, TimeProvider clock, ILogger? logger = null) : IAsyncDisposable
{
    /// <summary>There are never more of them.</summary>
    public const int Most = 1_000;

    private readonly Lock gate = new();
    private readonly List<LastingConnection> all = [new(address, clock, logger)];
    private bool isDisposed;

    /// <summary>The first that is there, or the next that is made.</summary>
    /// <exception cref="AmqpException">The broker cannot be reached.</exception>
    public Task<Connection> GetAsync(CancellationToken cancellationToken) => At(0).GetAsync(cancellationToken);

    /// <summary>Begins a session, on a connection that has room for it.</summary>
    /// <exception cref="AmqpException">The broker cannot be reached, or does not want it.</exception>
    public async Task<Session> BeginSessionAsync(CancellationToken cancellationToken)
    {
        for (var i = 0; i < Most; i++)
        {
            var connection = await At(i).GetAsync(cancellationToken).ConfigureAwait(false);
            try
            {
                if (await connection.TryBeginSessionAsync(cancellationToken).ConfigureAwait(false) is { } session)
                    return session;
            }
            catch (AmqpException e) when (e.Condition == Conditions.ResourceLimitExceeded)
            {
                // There are peers that allow fewer than they say.
            }
        }
        throw new AmqpException(
            $"{address.DisplayName} takes so few sessions on a connection that {Most} connections are not enough");
    }

    public async ValueTask DisposeAsync()
    {
        LastingConnection[] ours;
        lock (gate) (isDisposed, ours) = (true, [.. all]);
        await Task.WhenAll(ours.Select(c => c.DisposeAsync().AsTask())).ConfigureAwait(false);
    }

    private LastingConnection At(int place)
    {
        lock (gate)
        {
            ObjectDisposedException.ThrowIf(isDisposed, this);
            if (place == all.Count) all.Add(new LastingConnection(address, clock, logger));
            return all[place];
        }
    }
}
