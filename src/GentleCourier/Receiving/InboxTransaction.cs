using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Receiving;

/// <summary>The transaction of one delivery: begun when the receiver asks for it, or for the inbox row alone when it never does.</summary>
internal sealed class InboxTransaction(IStore? store, string queue, Event @event) : IAsyncDisposable
{
    private IHandling? handling;

    /// <summary>Another copy was handled first: whatever the receiver made of the news, there is nothing left to do.</summary>
    public bool AlreadyHandled { get; private set; }

    /// <summary>Looks before any work is done whether the event has been handled; this spares the work, it does not decide.</summary>
    public async Task<bool> IsHandledAsync(CancellationToken cancellationToken) =>
        store is not null
        && (AlreadyHandled = await store.AbsorbIfHandledAsync(queue, @event.Source, @event.Id, cancellationToken).ConfigureAwait(false));

    public async Task<DbTransaction> BeginAsync(CancellationToken cancellationToken)
    {
        if (store is null)
        {
            throw new CourierException(
                $"queue '{queue}' is received without an inbox, so there is no transaction to work in; "
                + $"set Courier:Store, and leave Courier:Receivers:{queue}:Inbox on");
        }
        return (await EnsureBegunAsync(store, cancellationToken).ConfigureAwait(false))?.Transaction
            ?? throw new OperationCanceledException($"event {@event.Id} has been handled by another delivery in the meantime");
    }

    /// <summary>Makes the row, the effect and the new events durable; nothing, where another copy was first.</summary>
    public async Task CommitAsync(CancellationToken cancellationToken)
    {
        if (store is null) return;
        if (await EnsureBegunAsync(store, cancellationToken).ConfigureAwait(false) is { } begun)
            await begun.CommitAsync(cancellationToken).ConfigureAwait(false);
    }

    private async Task<IHandling?> EnsureBegunAsync(IStore inbox, CancellationToken cancellationToken)
    {
        if (AlreadyHandled || handling is not null) return handling;
        handling = await inbox.BeginHandlingAsync(queue, @event.Source, @event.Id, cancellationToken).ConfigureAwait(false);
        AlreadyHandled = handling is null;
        return handling;
    }

    public ValueTask DisposeAsync() => handling?.DisposeAsync() ?? ValueTask.CompletedTask;
}
