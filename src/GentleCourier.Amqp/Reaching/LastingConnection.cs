using GentleCourier.Amqp.Transport;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Amqp.Reaching;

/// <summary>
/// A connection to a broker that is made again whenever it is lost, at the next of its hosts, with rests that grow. It
/// begins when it is first asked for. What was on its way when one was lost is lost with it: sessions and links are
/// made anew by those who use them. Thread-safe.
/// </summary>
internal sealed class LastingConnection(AmqpAddress address, TimeProvider clock, ILogger? logger = null)
    : IAsyncDisposable
{
    private static readonly TimeSpan FirstRest = TimeSpan.FromMilliseconds(100), LongestRest = Reachability.AskEvery;
    // A peer that lets one in and hangs up is not one that works.
    private static readonly TimeSpan Proven = TimeSpan.FromSeconds(5);

    private readonly Loop loop = new(
        $"connection to {address.DisplayName}", FirstRest, LongestRest, clock, logger);

    // The loop tells of it.
    private readonly Reachability reachability = new(address.DisplayName);
    private readonly CancellationTokenSource ending = new();
    private readonly Lock gate = new();
    private TaskCompletionSource<Connection> next = New();
    private Task? life;
    private bool isDisposed;
    private int host;

    /// <summary>How connections are; for all of them, whatever the host.</summary>
    public Func<PeerHost, ConnectionSettings> Settings { get; init; } =
        host => new() { Peer = $"{host}", ContainerId = WorkerName.OfProcess, Clock = clock };

    /// <summary>The connection that is there, or the next that is made.</summary>
    /// <exception cref="AmqpException">The next try to make one has failed; the message says why.</exception>
    public async Task<Connection> GetAsync(CancellationToken cancellationToken)
    {
        while (true)
        {
            Task<Connection> made;
            lock (gate)
            {
                ObjectDisposedException.ThrowIf(isDisposed, this);
                life ??= loop.RunAsync(LiveAsync, ending.Token);
                made = next.Task;
            }
            var connection = await made.WaitAsync(cancellationToken).ConfigureAwait(false);
            if (connection.WhyEnded is null) return connection;
            // It is over, and its loop has not seen that yet.
            await connection.Ended.WaitAsync(cancellationToken).ConfigureAwait(false);
            Forget(connection);
        }
    }

    public async ValueTask DisposeAsync()
    {
        Task? living;
        lock (gate)
        {
            if (isDisposed) return;
            (isDisposed, living) = (true, life);
        }
        await ending.CancelAsync().ConfigureAwait(false);
        if (living is not null) await living.ConfigureAwait(false);
        Fail(new AmqpException($"the connection to {address.DisplayName} was closed here"));
        ending.Dispose();
    }

    /// <summary>The life of one connection.</summary>
    private async Task LiveAsync(CancellationToken cancellationToken)
    {
        var connection = await ReachAsync(cancellationToken).ConfigureAwait(false);
        await using (connection.ConfigureAwait(false))
        {
            lock (gate) next.TrySetResult(connection);
            reachability.Found();
            await connection.Ended.WaitAsync(Proven, clock, cancellationToken)
                .ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (!connection.Ended.IsCompleted) loop.Succeeded();
            await connection.Ended.WaitAsync(cancellationToken).ConfigureAwait(false);
            Forget(connection);
        }
        host = (host + 1) % address.Hosts.Count;
        throw connection.WhyEnded!;
    }

    private async Task<Connection> ReachAsync(CancellationToken cancellationToken)
    {
        try
        {
            (var connection, host) = await Reach.AnyAsync(address, host, Settings, cancellationToken)
                .ConfigureAwait(false);
            return connection;
        }
        catch (AmqpException e)
        {
            // Whoever has waited for it rests until there is one, unless somebody has to mend something first; this
            // goes on asking, and tells of it.
            if (e.IsTransient) reachability.Lost(e.Message);
            Fail(new AmqpException(e.Message, e.Condition, e) { Reachability = e.IsTransient ? reachability : null });
            throw;
        }
    }

    /// <summary>Whoever waits learns why; the next wait for the next try.</summary>
    private void Fail(Exception why)
    {
        lock (gate)
        {
            if (next.Task.IsCompleted) return;
            next.TrySetException(why);
            // Not everybody waits for it.
            _ = next.Task.Exception;
            next = New();
        }
    }

    private void Forget(Connection connection)
    {
        lock (gate)
            if (next.Task is { IsCompletedSuccessfully: true } made && made.Result == connection) next = New();
    }

    private static TaskCompletionSource<Connection> New() => new(TaskCreationOptions.RunContinuationsAsynchronously);
}
