using GentleCourier.Engines;
using GentleCourier.Events;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Runs a receiver once, over one delivery or a batch, in a scope of services and a transaction of its own, and says
/// what came of it. It never throws.
/// </summary>
internal sealed partial class AttemptRunner(
    QueueBinding binding, IInboxPort? inboxStore, ContractCodec codec, IServiceScopeFactory scopes, ILogger logger)
{
    /// <param name="deliveries">Of one type; none of them has been handled, as far as anybody knows.</param>
    /// <param name="attempt">What may cut it short.</param>
    /// <param name="outOfTime">There is no time left to finish.</param>
    public async Task<Result> RunAsync(
        IReadOnlyList<ReadDelivery> deliveries, Attempt attempt, CancellationToken outOfTime)
    {
        // What the receiver begins inside its delivery's transaction is told from what others begin meanwhile.
        WriteFlow.Begin(deliveries.Count == 1 ? deliveries[0].Event : null);
        using var said = logger.BeginScope(new AttemptScope(
            binding.Queue, binding.Handlers[deliveries[0].Event.Type].Receiver, deliveries));
        var inbox = new InboxTransaction(inboxStore, binding.Queue, deliveries);
        AsyncServiceScope? scope = null;
        Result result;
        try
        {
            scope = scopes.CreateAsyncScope();
            var incoming = new Incoming(deliveries, binding.Queue, inbox, codec, scope.Value.ServiceProvider);
            await binding.HandleAsync(incoming, attempt.Token).ConfigureAwait(false);
            result = await CommitAsync(inbox, attempt).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            result = ResultOf(e, inbox.HandledElsewhere, attempt, outOfTime);
        }
        // What the receiver was given, such as a DbContext, is let go only when its transaction is over.
        await LetGoAsync(inbox, deliveries).ConfigureAwait(false);
        if (scope is { } services) await LetGoAsync(services, deliveries).ConfigureAwait(false);
        return result;
    }

    private static async Task<Result> CommitAsync(InboxTransaction inbox, Attempt attempt)
    {
        if (inbox.HandledElsewhere) return Result.HandledElsewhere;
        if (!attempt.TryFinish())
            return new Result.Failed(attempt.Cut, new OperationCanceledException("it ended too late"));
        // The work is done: it is committed even if the host stops at this moment.
        if (!await inbox.TryCommitAsync(CancellationToken.None).ConfigureAwait(false)) return Result.HandledElsewhere;
        FaultPoint.Pass(FaultPoint.CommittedNotSettled);
        return Result.Committed;
    }

    /// <summary>What it means that an attempt has thrown before its commit, or in it.</summary>
    public static Result ResultOf(
        Exception e, bool handledElsewhere, Attempt attempt, CancellationToken outOfTime) =>
        attempt.Cut != Cut.None ? new Result.Failed(attempt.Cut, e)
        : handledElsewhere ? Result.HandledElsewhere
        : outOfTime.IsCancellationRequested && e is OperationCanceledException ? Result.Stopped
        : new Result.Failed(Cut.None, e);

    private async Task LetGoAsync(IAsyncDisposable what, IReadOnlyList<ReadDelivery> deliveries)
    {
        try
        {
            await what.DisposeAsync().ConfigureAwait(false);
        }
        catch (Exception e)
        {
            LogNotLetGo(logger, binding.Queue, deliveries[0].Event.Type, deliveries[0].Event.Id, e);
        }
    }

    [LoggerMessage(208, LogLevel.Error,
        "Queue {Queue}: after {Type} {Id} had been handled, letting go what its receiver was given failed; its outcome "
        + "stands")]
    private static partial void LogNotLetGo(ILogger logger, string queue, string type, string id, Exception e);
}
