using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>A worker's link to one queue of a <see cref="SqliteBroker"/>.</summary>
internal sealed class SqliteLink(SqliteBroker broker, long queue, string worker, TimeSpan lease, SqliteFile file)
    : IReceivingLink
{
    private readonly SqliteConnection connection = file.Open();
    private Statement? nextDue;

    public async Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken)
    {
        ArgumentOutOfRangeException.ThrowIfNegativeOrZero(credit);
        while (true)
        {
            // Taken before looking, so that what comes in between is not missed.
            var changed = broker.Changed(queue).Next;
            var now = broker.Clock.GetUtcNow().ToUnixTimeMilliseconds();
            var due = NextDue();
            if (due <= now)
            {
                var handed = await broker.HandOverAsync(queue, credit, worker, lease, cancellationToken)
                    .ConfigureAwait(false);
                if (handed.Count > 0) return handed;
                continue;
            }
            await WaitAsync(changed, due - now, cancellationToken).ConfigureAwait(false);
        }
    }

    public Task<Exchange> SettleAsync(
        IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken) =>
        broker.SettleAsync(queue, settlements, credit, worker, lease, cancellationToken);

    public async Task<IReadOnlyList<bool>> RenewAsync(
        IReadOnlyList<LeaseToken> leases, CancellationToken cancellationToken) =>
        await broker.RenewAsync(leases, lease, cancellationToken).ConfigureAwait(false);

    public ValueTask DisposeAsync()
    {
        nextDue?.Dispose();
        connection.Dispose();
        return ValueTask.CompletedTask;
    }

    /// <summary>
    /// When the first event of the queue may be handed over; a read without a lock, which spares the writer empty work.
    /// </summary>
    private long? NextDue()
    {
        try
        {
            nextDue ??= new Statement(connection, "SELECT due FROM courier_place WHERE queue = ? ORDER BY due LIMIT 1");
            return nextDue.Bind(1, queue).Scalar();
        }
        catch (SqliteException e)
        {
            throw file.Problem(e, "read");
        }
    }

    private async Task WaitAsync(Task changed, long? milliseconds, CancellationToken cancellationToken)
    {
        broker.Watch.Enter();
        try
        {
            // A timer cannot be set further than 49 days ahead; an hour is as good.
            var limit = milliseconds is { } ms ? TimeSpan.FromMilliseconds(Math.Min(ms, 3_600_000))
                : Timeout.InfiniteTimeSpan;
            await changed.WaitAsync(limit, broker.Clock, cancellationToken).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            // Something has fallen due.
        }
        finally
        {
            broker.Watch.Leave();
        }
    }
}
