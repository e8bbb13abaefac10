using System.Data.Common;
using GentleCourier.Events;

namespace GentleCourier.Scheduling;

internal sealed class LaterEvents(LaterTable store) : ILaterEvents
{
    private const int Step = 200;

    public Task<IReadOnlyList<LaterEvent>> ListAsync(
        LaterFilter? which = null, int limit = 100, LaterEvent? after = null, DbTransaction? transaction = null,
        CancellationToken cancellationToken = default)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(limit, 1);
        return store.ReadAsync(which ?? new(), limit, after, transaction, cancellationToken);
    }

    public Task<int> CancelAsync(
        LaterFilter which, DbTransaction? transaction = null, CancellationToken cancellationToken = default)
    {
        Check(which);
        return store.CancelAsync(which, transaction, cancellationToken);
    }

    public async Task<int> MoveAsync(
        LaterFilter which, DueTime due, DbTransaction? transaction = null,
        CancellationToken cancellationToken = default)
    {
        Check(which);
        var time = due.From(await store.ReadTimeAsync(cancellationToken).ConfigureAwait(false));
        LaterEvent? last = null;
        for (var moved = 0; ;)
        {
            var step = await store.ReadAsync(which, Step, last, transaction, cancellationToken).ConfigureAwait(false);
            if (step.Count == 0) return moved;
            last = step[^1];
            // Those that have been moved already may be met again, at their new time.
            var changed = step.Where(e => e.Due != time)
                .Select(e => new LaterEvent(e.Row, e.Id, e.Type, e.PartitionKey, e.Due, e.Added,
                    EventJson.With(e.Json.Span, null, time))).ToList();
            if (changed.Count == 0) continue;
            moved += await store.MoveAsync(changed, time, due.Time is not null, transaction, cancellationToken)
                .ConfigureAwait(false);
        }
    }

    private static void Check(LaterFilter which)
    {
        ArgumentNullException.ThrowIfNull(which);
        if (which.IsAll)
            throw new ArgumentException(
                "it says nothing, and would take all: say an id, a key or a type", nameof(which));
    }
}
