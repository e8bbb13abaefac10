using System.Data.Common;
using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// The transaction of one attempt: begun when the receiver asks for it, or for the inbox rows alone when it never does.
/// </summary>
internal sealed class InboxTransaction(IInboxPort? store, string queue, IReadOnlyList<ReadDelivery> deliveries)
    : IAsyncDisposable
{
    private IInboxScope? handling;
    private IUnitOfWork? itsWork;
    private volatile bool isOver;

    /// <summary>
    /// A copy was handled first by another: whatever the receiver made of the news, nothing of this attempt counts.
    /// </summary>
    public bool HandledElsewhere { get; private set; }

    /// <param name="work">Whose transaction it is to be; null: the store's own, or the one that has begun.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <exception cref="InvalidOperationException">The receiver has returned.</exception>
    public async Task<DbTransaction> BeginAsync(IUnitOfWork? work, CancellationToken cancellationToken)
    {
        if (isOver)
        {
            throw new InvalidOperationException(
                $"the receiver of queue '{queue}' has returned, and the transaction of its delivery is over: what goes "
                + "on now would not be part of it; await all that the receiver begins before it returns");
        }
        if (store is null)
        {
            throw new CourierException(
                $"queue '{queue}' is received without an inbox, so there is no transaction to work in; "
                + $"set Courier:Store, and leave Courier:Receivers:{queue}:Inbox on");
        }
        if (work is not null && handling is not null && !work.Equals(itsWork))
            throw new CourierException(
                $"the delivery's transaction has begun already; let {work} have it before anything else begins it");
        return await TryBeginAsync(store, work, cancellationToken).ConfigureAwait(false)
            ? handling!.Transaction
            : throw new OperationCanceledException("an event has been handled by another delivery in the meantime");
    }

    /// <summary>Whether it is a transaction of this one's.</summary>
    public bool IsOf(IUnitOfWork work) => work.Equals(itsWork);

    /// <summary>Makes the rows of those that did not fail, the effect and the new events durable.</summary>
    /// <returns>Whether it did; not, where another copy was first.</returns>
    public async Task<bool> TryCommitAsync(CancellationToken cancellationToken)
    {
        if (store is null) return true;
        var failed = deliveries.Where(d => d.Failure is not null).Select(d => d.Key).ToList();
        // Nothing was done and nothing has succeeded.
        if (handling is null && failed.Count == deliveries.Count) return true;
        if (!await TryBeginAsync(store, null, cancellationToken).ConfigureAwait(false)) return false;
        if (itsWork is not null) await itsWork.SaveAsync(cancellationToken).ConfigureAwait(false);
        isOver = true;
        FaultPoint.Pass(FaultPoint.HandledNotCommitted);
        await handling!.CommitAsync(failed, cancellationToken).ConfigureAwait(false);
        return true;
    }

    private async Task<bool> TryBeginAsync(IInboxPort inbox, IUnitOfWork? work, CancellationToken cancellationToken)
    {
        if (handling is not null || HandledElsewhere) return !HandledElsewhere;
        var events = new InboxEvent[deliveries.Count];
        for (var i = 0; i < events.Length; i++) events[i] = deliveries[i].ForInbox;
        handling = await inbox.BeginHandlingAsync(queue, events, work, cancellationToken).ConfigureAwait(false);
        itsWork = work;
        HandledElsewhere = handling is null;
        return !HandledElsewhere;
    }

    public ValueTask DisposeAsync()
    {
        isOver = true;
        return handling?.DisposeAsync() ?? ValueTask.CompletedTask;
    }
}
