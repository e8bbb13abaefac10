using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Events;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving;

/// <summary>
/// Takes one delivery from its bytes to its outcome: read, look into the inbox, handle, commit. It never throws: whatever
/// goes wrong becomes an outcome.
/// </summary>
internal sealed partial class DeliveryHandler(
    QueueBinding binding, ReceiverOptions options, IStore? store, ContractCodec codec, IServiceScopeFactory scopes, ILogger logger)
{
    private readonly IStore? inboxStore = options.Inbox ? store : null;

    /// <param name="handOver">The delivery.</param>
    /// <param name="cancellationToken">Cancelled when there is no time left to finish; the delivery is given back then.</param>
    public async Task<Outcome> HandleAsync(HandOver handOver, CancellationToken cancellationToken)
    {
        var id = "(unread)";
        try
        {
            var @event = Event.Read(handOver.Json);
            id = @event.Id;
            if (handOver.Attempt > options.MaxAttempts)
            {
                return await RejectUnlessHandledAsync(@event, new Outcome.Rejected(
                    $"out of attempts: handed over {options.MaxAttempts} times, and the last attempt was never settled; "
                    + "its worker was killed or lost its lease", null)).ConfigureAwait(false);
            }
            if (!binding.Handlers.TryGetValue(@event.Type, out var handler))
            {
                return Rejected(id, new Outcome.Rejected(
                    $"no receiver for type '{@event.Type}' on queue '{binding.Queue}'; it handles {string.Join(", ", binding.Handlers.Keys)}", null));
            }

            using var activity = Telemetry.StartProcessing(binding.Queue, @event);
            return await HandleAsync(@event, handOver.Attempt, handler, activity, cancellationToken).ConfigureAwait(false);
        }
        catch (UnreadableEventException e)
        {
            return Rejected(id, new Outcome.Rejected($"unreadable event: {e.Message}", Failure.Of(e)));
        }
        catch (Exception e)
        {
            // Not the handler's own failure, which has an outcome by now: one of dealing with it, such as an exception whose
            // own message throws. It must not end the loop that handles deliveries; attempts go on counting.
            return new Outcome.Modified(options.LongestDelay, $"the delivery could not be dealt with: {e.GetType().FullName}");
        }
    }

    private async Task<Outcome> HandleAsync(
        Event @event, int attempt, ContractHandler handler, Activity? activity, CancellationToken cancellationToken)
    {
        var inbox = new InboxTransaction(inboxStore, binding.Queue, @event);
        try
        {
            await using (inbox.ConfigureAwait(false))
            {
                if (await inbox.IsHandledAsync(cancellationToken).ConfigureAwait(false)) return Absorbed(@event);

                var scope = scopes.CreateAsyncScope();
                await using (scope.ConfigureAwait(false))
                {
                    var incoming = new Incoming(@event, binding.Queue, attempt, inbox, codec, scope.ServiceProvider);
                    await handler(incoming, cancellationToken).ConfigureAwait(false);
                }
                FaultPoint.Pass("receiver: handled, not committed");
                // The work is done: it is committed even if the host stops at this moment.
                await inbox.CommitAsync(CancellationToken.None).ConfigureAwait(false);
                FaultPoint.Pass("receiver: committed, not settled");
                return inbox.AlreadyHandled ? Absorbed(@event) : Outcome.Accepted;
            }
        }
        catch (Exception) when (inbox.AlreadyHandled)
        {
            return Absorbed(@event);
        }
        catch (OperationCanceledException) when (cancellationToken.IsCancellationRequested)
        {
            return Outcome.Released;
        }
        catch (Exception e)
        {
            activity?.SetStatus(ActivityStatusCode.Error, e.Message);
            return await FailedAsync(@event, attempt, e).ConfigureAwait(false);
        }
    }

    private async Task<Outcome> FailedAsync(Event @event, int attempt, Exception e)
    {
        switch (e)
        {
            case RejectException:
                return Rejected(@event.Id, new Outcome.Rejected(e.Message, Failure.Of(e)));
            case ContractException:
                return Rejected(@event.Id, new Outcome.Rejected($"unreadable body: {e.Message}", Failure.Of(e)));
        }

        var error = $"{e.GetType().Name}: {FirstLine(e.Message)}";
        if (attempt >= options.MaxAttempts)
        {
            var tries = attempt == 1 ? "the only attempt" : $"all {attempt} attempts";
            return await RejectUnlessHandledAsync(
                @event, new Outcome.Rejected($"failed {tries}; the last with {error}", Failure.Of(e))).ConfigureAwait(false);
        }

        var delay = BackOff.Delay(attempt, options.FirstDelay, options.LongestDelay, Random.Shared.NextDouble());
        LogFailed(logger, binding.Queue, @event.Type, @event.Id, attempt, options.MaxAttempts, delay, e);
        return new Outcome.Modified(delay, error);
    }

    /// <summary>
    /// The end of the attempts is no proof that none succeeded: a worker may have died between its commit and settling, or
    /// the answer to a commit may have been lost. Where the inbox knows the event it is done, and not set aside.
    /// </summary>
    private async Task<Outcome> RejectUnlessHandledAsync(Event @event, Outcome.Rejected outcome)
    {
        if (inboxStore is null) return Rejected(@event.Id, outcome);
        try
        {
            var handled = await inboxStore.AbsorbIfHandledAsync(binding.Queue, @event.Source, @event.Id, CancellationToken.None).ConfigureAwait(false);
            return handled ? Absorbed(@event) : Rejected(@event.Id, outcome);
        }
        catch (CourierException e)
        {
            // As long as the inbox cannot be asked, nobody knows.
            return new Outcome.Modified(options.LongestDelay, $"{outcome.Reason}; and the inbox cannot be asked: {e.Message}");
        }
    }

    private Outcome.Rejected Rejected(string id, Outcome.Rejected outcome)
    {
        LogRejected(logger, binding.Queue, id, outcome.Reason);
        return outcome;
    }

    private Outcome Absorbed(Event @event)
    {
        LogAbsorbed(logger, binding.Queue, @event.Type, @event.Id);
        return Outcome.Accepted;
    }

    private static string FirstLine(string text) => text.Split('\n', 2)[0].TrimEnd();

    [LoggerMessage(201, LogLevel.Warning, "Queue {Queue}: {Type} {Id} failed attempt {Attempt} of {MaxAttempts}, next in {Delay}")]
    private static partial void LogFailed(
        ILogger logger, string queue, string type, string id, int attempt, int maxAttempts, TimeSpan delay, Exception e);

    [LoggerMessage(202, LogLevel.Error, "Queue {Queue}: event {Id} is set aside as a dead letter: {Reason}")]
    private static partial void LogRejected(ILogger logger, string queue, string id, string reason);

    [LoggerMessage(203, LogLevel.Debug, "Queue {Queue}: a further copy of {Type} {Id} is absorbed, it has been handled")]
    private static partial void LogAbsorbed(ILogger logger, string queue, string type, string id);
}
