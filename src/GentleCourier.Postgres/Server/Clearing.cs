using System.Diagnostics;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;

namespace GentleCourier.Postgres;

/// <summary>
/// Clears rows that are gone away from a table through which many pass. The server does so by itself, but looks around
/// for it once a minute: by then a busy queue has grown by gigabytes, and reading and clearing them slows it down.
/// Whoever empties a table knows better. Thread-safe.
/// </summary>
/// <remarks>It takes the table's owner; for another the server does nothing, and goes on clearing by itself.</remarks>
/// <param name="server">Where.</param>
/// <param name="table">With <c>courier</c> for its schema.</param>
/// <param name="logger">Is told when it fails: the server goes on clearing by itself.</param>
internal sealed partial class Clearing(PostgresServer server, string table, ILogger? logger)
{
    // So many rows are cleared away in tens of milliseconds; and however long it takes, where a million others wait or
    // an old transaction still sees what is gone, it takes no more than a twentieth of the time.
    private const int Enough = 20_000, Restraint = 19;
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(10);

    // It needs the table to itself for nothing: whoever has it locked is passed by, and the file keeps its length, to
    // be filled.
    private readonly string vacuum = server.Sql($"VACUUM (SKIP_LOCKED, TRUNCATE false, PARALLEL 0) {table}");
    private int gone;
    private bool busy;

    /// <summary>So many rows have been deleted.</summary>
    public void Gone(int rows)
    {
        if (Interlocked.Add(ref gone, rows) < Enough || Interlocked.Exchange(ref busy, true)) return;
        _ = Task.Run(ClearAsync);
    }

    private async Task ClearAsync()
    {
        var began = Stopwatch.GetTimestamp();
        Interlocked.Exchange(ref gone, 0);
        try
        {
            await server.RunAsync("clear away what is gone from", new RoundTrip().Add(vacuum), CancellationToken.None,
                Limit).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            LogNotCleared(logger ?? NullLogger.Instance, table, server.DisplayName, Words.Of(e));
        }
        finally
        {
            await Task.Delay(Stopwatch.GetElapsedTime(began) * Restraint).ConfigureAwait(false);
            Volatile.Write(ref busy, false);
        }
    }

    [LoggerMessage(301, LogLevel.Information,
        "{Table} of {Server} could not be cleared of what is gone; the server does it by itself, later: {Problem}")]
    private static partial void LogNotCleared(ILogger logger, string table, string server, string problem);
}
