using Microsoft.Extensions.Logging;

namespace GentleCourier.Postgres;

/// <summary>
/// Hears what is announced on a channel, on a connection of its own that is opened again whenever it is lost. What is
/// announced in between is missed: whoever relies on it looks besides, now and then. Thread-safe.
/// </summary>
internal sealed class Listener(
    PostgresServer server, string channel, Action<string> heard, Action connected, ILogger? logger) : IAsyncDisposable
{
    private static readonly TimeSpan FirstRetry = TimeSpan.FromMilliseconds(100);
    private static readonly TimeSpan LongestRetry = TimeSpan.FromSeconds(5);

    private readonly CancellationTokenSource disposed = new();
    private readonly Lock starting = new();
    private readonly Loop loop = new(
        $"Listening to '{channel}' of {server.DisplayName}", FirstRetry, LongestRetry, TimeProvider.System, logger);
    private Task? listening;

    /// <summary>Begins to listen, if it does not yet.</summary>
    public void Start()
    {
        if (Volatile.Read(ref listening) is not null) return;
        lock (starting) listening ??= loop.RunAsync(ListenAsync, disposed.Token);
    }

    public async ValueTask DisposeAsync()
    {
        await disposed.CancelAsync().ConfigureAwait(false);
        if (listening is not null) await listening.ConfigureAwait(false);
        disposed.Dispose();
    }

    private async Task ListenAsync(CancellationToken ending)
    {
        try
        {
            await ListenAloneAsync(ending).ConfigureAwait(false);
        }
        catch (Exception e) when (PostgresServer.IsProblem(e))
        {
            throw server.Problem(e, "listen in", isConnecting: true);
        }
    }

    private async Task ListenAloneAsync(CancellationToken ending)
    {
        var connection = await server.OpenAloneAsync(ending).ConfigureAwait(false);
        await using (connection.ConfigureAwait(false))
        {
            connection.Notification += (_, news) => heard(news.Payload);
            await new RoundTrip().Add($"LISTEN \"{channel}\"").RunAsync(connection, PostgresServer.Limit, ending)
                .ConfigureAwait(false);
            loop.Succeeded();
            connected();
            while (true) await connection.WaitAsync(ending).ConfigureAwait(false);
        }
    }
}
