using System.Diagnostics;

namespace GentleCourier.Bench;

/// <summary>
/// The least that tells another thread of a committed row, and the least that carries it there as safely.
/// </summary>
internal static class BareWake
{
    /// <param name="count">How many rows, one after another.</param>
    /// <param name="asSafely">
    /// Through a broker's file: copied and committed there, then leased and committed, before it is handled.
    /// </param>
    /// <returns>Milliseconds from before the commit to the read.</returns>
    public static List<double> Measure(int count, bool asSafely)
    {
        var workshop = new Workshop();
        using var store = workshop.Open(
            workshop.StoreFile, "CREATE TABLE outbox (seq INTEGER PRIMARY KEY, event BLOB NOT NULL)");
        using var reader = workshop.Open(workshop.StoreFile);
        using var broker = workshop.Open(workshop.BrokerFile, RelayRate.BareBroker);
        using var insert = Workshop.Prepare(store, "INSERT INTO outbox (event) VALUES ($1)", 1);
        using var read = Workshop.Prepare(reader, "SELECT event FROM outbox ORDER BY seq DESC LIMIT 1", 0);
        using var copy = Workshop.Prepare(broker, "INSERT INTO queue (due, event) VALUES (0, $1)", 1);
        using var lease = Workshop.Prepare(broker, "UPDATE queue SET due = 1 WHERE due = 0", 0);
        using var committed = new SemaphoreSlim(0);
        using var copied = new SemaphoreSlim(0);
        using var handled = new SemaphoreSlim(0);
        var times = new List<double>();
        var began = 0L;

        var relay = new Thread(() =>
        {
            for (var i = 0; i < count; i++)
            {
                committed.Wait();
                var row = read.ExecuteScalar();
                if (asSafely) Workshop.Run(copy, row);
                copied.Release();
            }
        });
        var receiver = new Thread(() =>
        {
            for (var i = 0; i < count; i++)
            {
                copied.Wait();
                if (asSafely) Workshop.Run(lease);
                times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
                handled.Release();
            }
        });
        relay.Start();
        receiver.Start();
        for (var i = 0; i < count; i++)
        {
            Thread.Sleep(20 + (i % 7));
            began = Stopwatch.GetTimestamp();
            Workshop.Run(insert, Workshop.Json(i));
            committed.Release();
            handled.Wait();
        }
        relay.Join();
        receiver.Join();
        workshop.DisposeAsync().AsTask().GetAwaiter().GetResult();
        return times;
    }
}
