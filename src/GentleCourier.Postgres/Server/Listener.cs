namespace GentleCourier.Postgres;

/// <summary>
/// Hears what is announced on a channel, on a connection of its own that is opened again whenever it is lost. What is
/// announced in between is missed: whoever relies on it looks besides, now and then. Thread-safe.
/// </summary>
internal sealed class Listener(PostgresServer server, string channel, Action<string> heard, Action connected)
    : IAsyncDisposable
{
    private static readonly TimeSpan FirstRetry = TimeSpan.FromMilliseconds(100);
    private static readonly TimeSpan LongestRetry = TimeSpan.FromSeconds(5);

    private readonly CancellationTokenSource disposed = new();
    private readonly Lock starting = new();
    private Task? listening;

    /// <summary>Begins to listen, if it does not yet.</summary>
    public void Start()
    {
        if (Volatile.Read(ref listening) is not null) return;
        lock (starting) listening ??= Task.Run(ListenAsync);
    }

    public async ValueTask DisposeAsync()
    {
        await disposed.CancelAsync().ConfigureAwait(false);
        if (listening is not null) await listening.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        disposed.Dispose();
    }

    private async Task ListenAsync()
    {
        for (var failures = 0; !disposed.IsCancellationRequested;)
        {
            try
            {
                var connection = await server.OpenAloneAsync(disposed.Token).ConfigureAwait(false);
                await using (connection.ConfigureAwait(false))
                {
                    connection.Notification += (_, news) => heard(news.Payload);
                    await new RoundTrip().Add($"LISTEN \"{channel}\"")
                        .RunAsync(connection, PostgresServer.Limit, disposed.Token).ConfigureAwait(false);
                    failures = 0;
                    connected();
                    while (true) await connection.WaitAsync(disposed.Token).ConfigureAwait(false);
                }
            }
            catch (Exception e)
                when (e is OperationCanceledException or ObjectDisposedException || PostgresServer.IsProblem(e))
            {
                failures++;
                await Task.Delay(BackOff.Bound(failures, FirstRetry, LongestRetry), disposed.Token)
                    .ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }
    }
}
