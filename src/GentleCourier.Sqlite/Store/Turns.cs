using GentleCourier.Engines;

namespace GentleCourier.Sqlite;

/// <summary>
/// The turns of this process to write a store's file. SQLite has one writer: whoever waits for its lock inside SQLite
/// blocks a thread, which may be the one on which the holder would go on. Here they wait in line, in the order in which
/// they came, without a thread. Thread-safe.
/// </summary>
internal sealed class Turns(SqliteFile file) : IDisposable
{
    private readonly SemaphoreSlim line = new(1, 1);
    private volatile bool isReaching;

    /// <summary>
    /// Whether whoever has the turn waits for the file's own lock, which another process has, or has just done so in
    /// vain.
    /// </summary>
    public bool IsReaching
    {
        set => isReaching = value;
    }

    /// <summary>Waits for a turn.</summary>
    /// <exception cref="CourierException">It has not come in time.</exception>
    public async Task TakeAsync(CancellationToken cancellationToken)
    {
        if (!await line.WaitAsync(SqliteFile.BusyLimit, cancellationToken).ConfigureAwait(false)) throw TooLong();
    }

    /// <summary>The same for callers that cannot wait otherwise; it blocks their thread.</summary>
    public void Take()
    {
        if (!line.Wait(SqliteFile.BusyLimit)) throw TooLong();
    }

    /// <summary>Takes a turn if nobody has it.</summary>
    public bool TryTake() => line.Wait(0);

    /// <summary>Waits for a turn, for so long; false where it has not come.</summary>
    public Task<bool> TryTakeAsync(TimeSpan limit) => line.WaitAsync(limit);

    public void Give() => line.Release();

    /// <exception cref="CourierException">
    /// This flow of execution has the turn already, and would wait for itself.
    /// </exception>
    public void RefuseInside(WriteFlow? flow)
    {
        if (flow?.Holds(this) != true) return;
        throw new CourierException(
            $"a transaction on {file.DisplayName} was begun inside another one, which has to end first: a SQLite file "
            + "has one writer; work on the connection of the outer transaction (for a receiver, that of its delivery), "
            + "which is given along where a method takes one, or end it before, also where the inner one is begun by a "
            + "task that was started meanwhile");
    }

    public void Dispose() => line.Dispose();

    private CourierException TooLong() => isReaching
        ? new($"cannot write to {file.DisplayName}: {SqliteFile.LockedElsewhere}") { IsTransient = true }
        : new($"cannot write to {file.DisplayName}: other transactions of this process have kept it busy for longer "
            + $"than {SqliteFile.BusyLimit.TotalSeconds:0} s; look for one that is long, or that is never ended");
}
