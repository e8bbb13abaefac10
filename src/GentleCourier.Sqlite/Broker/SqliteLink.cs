using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>A worker's link to one queue of a <see cref="SqliteBroker"/>.</summary>
internal sealed class SqliteLink(SqliteBroker broker, long queue, string worker, TimeSpan lease, SqliteFile file)
    : IReceivingLink
{
    private SqliteConnection connection = file.Open();
    private FileIdentity? opened = file.Identity;
    private Statement? nextDue, state, nextInKeyOrder;

    public long Queue => queue;

    public string Worker => worker;

    public TimeSpan Lease => lease;

    public TimeSpan? RenewEvery => lease / 3;

    TimeSpan? IReceivingLink.RoundTrip => null;

    public async Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken)
    {
        ArgumentOutOfRangeException.ThrowIfNegativeOrZero(credit);
        while (true)
        {
            // Taken before looking, so that what comes in between is not missed.
            var changed = broker.Changed(queue).Next;
            var (now, looked) = (broker.Now, broker.Clock.GetTimestamp());
            var due = NextDue();
            if (due <= now)
            {
                var handed = await broker.Delivering.HandOverAsync(this, credit, cancellationToken)
                    .ConfigureAwait(false);
                if (handed.Count > 0) return handed;
                continue;
            }
            await WaitAsync(changed, due - now, looked, cancellationToken).ConfigureAwait(false);
        }
    }

    public Task<Exchange> SettleAsync(
        IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken) =>
        broker.Delivering.SettleAsync(this, settlements, credit, cancellationToken);

    public Task ConfirmAsync(CancellationToken cancellationToken) => Task.CompletedTask;

    public async Task<IReadOnlyList<bool>> RenewAsync(
        IReadOnlyList<HandOver> deliveries, CancellationToken cancellationToken) =>
        await broker.Delivering.RenewAsync(deliveries, lease, cancellationToken).ConfigureAwait(false);

    public ValueTask DisposeAsync()
    {
        Close();
        return ValueTask.CompletedTask;
    }

    private void Close()
    {
        nextDue?.Dispose();
        state?.Dispose();
        nextInKeyOrder?.Dispose();
        nextDue = state = nextInKeyOrder = null;
        connection.Dispose();
    }

    /// <summary>
    /// When the first event of the queue may be handed over; a read without a lock, which spares the writer empty work.
    /// </summary>
    private long? NextDue()
    {
        if (file.Identity is var now && now != opened)
        {
            // Where it cannot be opened, the next call tries again.
            Close();
            opened = null;
            connection = file.Open();
            broker.Prepare();
            opened = now;
        }
        try
        {
            state ??= new Statement(
                connection, "SELECT in_key_order, is_paused, paused_until FROM courier_queue WHERE id = ?");
            var (isInKeyOrder, isPaused, until) = (false, false, (long?)null);
            state.Bind(1, queue);
            while (state.Step())
                (isInKeyOrder, isPaused, until) = (state.Int64(0) != 0, state.Int64(1) != 0, state.NullableInt64(2));
            if (isPaused && !(until <= broker.Now)) return until;
            if (isInKeyOrder)
            {
                nextInKeyOrder ??= new Statement(connection, """
                    SELECT CASE WHEN keyless_from IS NULL THEN
                        (SELECT at FROM courier_head WHERE queue = q.id ORDER BY at LIMIT 1) ELSE 0 END
                    FROM courier_queue q WHERE id = ?
                    """);
                return nextInKeyOrder.Bind(1, queue).Scalar();
            }
            nextDue ??= new Statement(connection, "SELECT due FROM courier_place WHERE queue = ? ORDER BY due LIMIT 1");
            return nextDue.Bind(1, queue).Scalar();
        }
        catch (SqliteException e)
        {
            throw file.Problem(e, "read");
        }
    }

    private async Task WaitAsync(Task changed, long? milliseconds, long since, CancellationToken cancellationToken)
    {
        broker.Watch.Enter();
        try
        {
            // A timer cannot be set further than 49 days ahead; an hour is as good.
            var limit = milliseconds is { } ms ? TimeSpan.FromMilliseconds(Math.Min(ms, 3_600_000))
                : Timeout.InfiniteTimeSpan;
            if (milliseconds is not null) limit -= broker.Clock.GetElapsedTime(since);
            await changed.WaitAsync(limit > TimeSpan.Zero || milliseconds is null ? limit : TimeSpan.Zero, broker.Clock,
                cancellationToken).ConfigureAwait(false);
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
