using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Events;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Takes deliveries from their bytes to their outcomes: read, look into the inbox, handle, commit. It never throws:
/// whatever goes wrong becomes an outcome.
/// </summary>
internal sealed partial class DeliveryHandler(
    QueueBinding binding,
    IInboxPort? store,
    ContractCodec codec,
    IServiceScopeFactory scopes,
    TimeProvider clock,
    ILogger logger)
{
    private readonly ReceiverOptions options = binding.Options;
    private readonly IInboxPort? inboxStore = binding.Options.Inbox ? store : null;
    private readonly InboxLook? look = binding.Options.Inbox && store is not null
        ? new(store, binding.Queue, clock) : null;

    /// <summary>Deliveries have come, and will be handled when their turn comes.</summary>
    public void Expect(IReadOnlyList<Held> deliveries) => look?.Ahead(deliveries);

    /// <summary>Handles deliveries that were taken up together.</summary>
    /// <param name="deliveries">One, or as many as a batch may have.</param>
    /// <param name="link">Told of each outcome, as soon as it is decided, and of handlers that do not end.</param>
    /// <param name="outOfTime">
    /// Cancelled when there is no time left to finish; what has not finished is given back then.
    /// </param>
    public async Task HandleAsync(IReadOnlyList<Held> deliveries, ISettler link, CancellationToken outOfTime)
    {
        FaultPoint.Pass(FaultPoint.HandedOverNotHandled);
        List<ReadDelivery>? batch = null;
        foreach (var held in deliveries)
        {
            if (await ReadAsync(held, link).ConfigureAwait(false) is not { } read) continue;
            // A queue may have receivers of single events and of batches: a batch is what comes in a row for one of
            // them.
            if (batch is not null && batch[0].Event.Type != read.Event.Type)
            {
                await HandleBatchAsync(batch, link, outOfTime).ConfigureAwait(false);
                batch = null;
            }
            if (binding.Handlers[read.Event.Type].TakesBatches) (batch ??= []).Add(read);
            else await TryAsync([read], link, outOfTime).ConfigureAwait(false);
        }
        if (batch is not null) await HandleBatchAsync(batch, link, outOfTime).ConfigureAwait(false);
    }

    private async Task HandleBatchAsync(List<ReadDelivery> batch, ISettler link, CancellationToken outOfTime)
    {
        if (await TryAsync(batch, link, outOfTime).ConfigureAwait(false)) return;
        // As a whole the batch has failed, and without effect. One at a time, only those fail that have to.
        foreach (var alone in batch)
        {
            alone.Failure = null;
            // Another may have handled it in the meantime, which may be why the batch failed.
            alone.Held.Look = null;
            await TryAsync([alone], link, outOfTime).ConfigureAwait(false);
        }
    }

    /// <summary>Reads the event; where that is all that can be done with it, its outcome is decided.</summary>
    private async Task<ReadDelivery?> ReadAsync(Held held, ISettler link)
    {
        var id = "(unread)";
        try
        {
            var read = new ReadDelivery(held, held.Event);
            id = read.Event.Id;
            if (read.Attempt > options.MaxAttempts)
            {
                var reason =
                    $"out of attempts: handed over {options.MaxAttempts} times, and the last attempt was never "
                    + "settled; its worker was killed or lost its lease";
                link.Settle(held, await RejectUnlessHandledAsync(read, reason, null).ConfigureAwait(false));
                return null;
            }
            if (binding.Handlers.ContainsKey(read.Event.Type)) return read;
            link.Settle(held, Rejected(
                id,
                $"no receiver for type '{read.Event.Type}' on queue '{binding.Queue}'; "
                + $"it handles {string.Join(", ", binding.Handlers.Keys)}",
                null));
        }
        catch (UnreadableEventException e)
        {
            link.Settle(held, Rejected(id, $"unreadable event: {e.Message}", e));
        }
        catch (Exception e)
        {
            link.Settle(held, Undealt(e));
        }
        return null;
    }

    /// <summary>Handles one delivery, or a batch of one type.</summary>
    /// <returns>False: a batch has failed as a whole, nothing of it has happened, and no outcome is decided.</returns>
    private async Task<bool> TryAsync(List<ReadDelivery> together, ISettler link, CancellationToken outOfTime)
    {
        var deliveries = StillHeld(together, link);
        if (deliveries.Count == 0) return true;

        using var activity = Telemetry.StartProcessing(binding.Queue, deliveries);
        using var attempt = Begin(deliveries, link, outOfTime);
        foreach (var delivery in deliveries) delivery.Held.BeginAttempt(attempt);
        try
        {
            if (await TryAsync(deliveries, attempt, link).ConfigureAwait(false)) return true;
            if (deliveries.Count > 1) return false;
            link.Settle(deliveries[0].Held, await AbsorbAsync(deliveries[0]).ConfigureAwait(false) ?? Outcome.Released);
        }
        catch (OperationCanceledException e) when (outOfTime.IsCancellationRequested && attempt.Cut == Cut.None)
        {
            foreach (var delivery in deliveries) link.Settle(delivery.Held, GivenBack(delivery, e));
        }
        catch (Exception e) when (deliveries.Count > 1)
        {
            LogBatchFailed(logger, binding.Queue, deliveries.Count, e);
            return false;
        }
        catch (Exception) when (deliveries[0].Held.IsDecided)
        {
            // It has been reported and settled, long before its handler ended.
        }
        catch (Exception) when (attempt.Cut == Cut.LeaseLost)
        {
            LogLost(logger, binding.Queue, deliveries[0].Event.Type, deliveries[0].Event.Id);
            link.Drop(deliveries[0].Held);
        }
        catch (Exception e)
        {
            link.Settle(
                deliveries[0].Held, await FailedAsync(deliveries[0], attempt.Cut, e, activity).ConfigureAwait(false));
        }
        finally
        {
            if (attempt.Overran) link.Ended();
        }
        return true;
    }

    private Attempt Begin(List<ReadDelivery> deliveries, ISettler link, CancellationToken outOfTime) =>
        options.TimeLimit is null
        ? new Attempt(null, static () => { }, clock, outOfTime)
        : new Attempt(options.TimeLimit, () => Overrun(deliveries, link), clock, outOfTime);

    /// <summary>One attempt. False: another has handled one of the events at the same moment.</summary>
    private async Task<bool> TryAsync(List<ReadDelivery> together, Attempt attempt, ISettler link)
    {
        var deliveries = await NotYetHandledAsync(together, link, attempt.Token).ConfigureAwait(false);
        if (deliveries.Count == 0) return true;

        // What the receiver was given, such as a DbContext, is let go only when its transaction is over.
        var scope = scopes.CreateAsyncScope();
        await using (scope.ConfigureAwait(false))
        {
            // What the receiver begins inside its delivery's transaction is told from what others begin meanwhile.
            WriteFlow.Begin();
            var inbox = new InboxTransaction(inboxStore, binding.Queue, deliveries);
            await using (inbox.ConfigureAwait(false))
            {
                try
                {
                    await binding.HandleAsync(
                        new Incoming(deliveries, binding.Queue, inbox, codec, scope.ServiceProvider),
                        attempt.Token).ConfigureAwait(false);
                }
                catch (Exception) when (inbox.HandledElsewhere && attempt.Cut == Cut.None)
                {
                    return false;
                }
                if (inbox.HandledElsewhere) return false;
                if (!attempt.TryFinish()) throw new OperationCanceledException("it ended too late");
                // The work is done: it is committed even if the host stops at this moment.
                if (!await inbox.TryCommitAsync(CancellationToken.None).ConfigureAwait(false)) return false;
            }
        }
        FaultPoint.Pass(FaultPoint.CommittedNotSettled);

        foreach (var delivery in deliveries)
        {
            if (delivery.Failure is null) look?.Handled(delivery.Key);
            link.Settle(
                delivery.Held,
                delivery.Failure is { } failure ? await FailedAsync(delivery, Cut.None, failure, Activity.Current)
                    .ConfigureAwait(false) : Outcome.Accepted);
        }
        return true;
    }

    /// <summary>Without those that another has by now, or whose outcome has been decided.</summary>
    private static List<ReadDelivery> StillHeld(List<ReadDelivery> together, ISettler link)
    {
        if (!together.Exists(static d => d.Held.IsDecided || d.Held.IsLost)) return together;
        foreach (var delivery in together)
            if (delivery.Held.IsLost) link.Drop(delivery.Held);
        return together.FindAll(static d => !d.Held.IsDecided);
    }

    private async Task<List<ReadDelivery>> NotYetHandledAsync(
        List<ReadDelivery> deliveries, ISettler link, CancellationToken cancellationToken)
    {
        if (look is null) return deliveries;
        var handled = await look.AbsorbAsync(deliveries, cancellationToken).ConfigureAwait(false);
        if (!handled.Contains(true)) return deliveries;
        for (var i = 0; i < handled.Length; i++)
            if (handled[i]) link.Settle(deliveries[i].Held, Absorbed(deliveries[i].Event));
        return deliveries.FindAll(static d => !d.Held.IsDecided);
    }

    private async Task<Outcome> FailedAsync(ReadDelivery delivery, Cut cut, Exception e, Activity? activity)
    {
        try
        {
            if (cut == Cut.TimeLimit)
                e = new TimeoutException($"the handler ran longer than its time limit of {options.TimeLimit}", e);
            activity?.SetStatus(ActivityStatusCode.Error, e.Message);
            return await FailedAsync(delivery, e).ConfigureAwait(false);
        }
        catch (Exception another)
        {
            return Undealt(another);
        }
    }

    private async Task<Outcome> FailedAsync(ReadDelivery delivery, Exception e)
    {
        var @event = delivery.Event;
        if (options.Settling == Settling.OnArrival) return Gone(@event.Id, Said(e), e);
        switch (e)
        {
            case RejectException:
                return Rejected(@event.Id, e.Message, e);
            case ContractException:
                return Rejected(@event.Id, $"unreadable body: {e.Message}", e);
        }

        var error = Said(e);
        if (binding.IsUseless(e)) return Rejected(@event.Id, $"useless to try again: {error}", e);

        var age = @event.Time is { } time ? clock.GetUtcNow() - time : (TimeSpan?)null;
        var (delay, reason) = Redelivery.After(
            options, delivery.Attempt, (e as RetryException)?.Delay, age, Random.Shared.NextDouble());
        if (delay is null) return await RejectUnlessHandledAsync(delivery, $"{reason}; the last with {error}", e)
            .ConfigureAwait(false);

        LogFailed(logger, binding.Queue, @event.Type, @event.Id, delivery.Attempt, options.MaxAttempts, delay.Value, e);
        return new Outcome.Modified(delay.Value, e is RetryException ? FirstLine(e.Message) : error);
    }

    /// <summary>
    /// A handler does not end. Its deliveries go on without it; whatever it still does has no effect.
    /// </summary>
    private void Overrun(List<ReadDelivery> deliveries, ISettler link)
    {
        link.DoesNotEnd();
        LogDoesNotEnd(logger, binding.Queue, string.Join(", ", deliveries.Select(d => $"{d.Event.Type} {d.Event.Id}")),
            options.TimeLimit!.Value);
        foreach (var delivery in deliveries)
        {
            var failure = new TimeoutException("and it ignores its cancellation");
            _ = Task.Run(async () => link.Settle(
                delivery.Held, await FailedAsync(delivery, Cut.TimeLimit, failure, null).ConfigureAwait(false)));
        }
    }

    /// <summary>
    /// The end of the attempts is no proof that none succeeded: a worker may have died between its commit and settling,
    /// or the answer to a commit may have been lost. Where the inbox knows the event it is done, and not set aside.
    /// </summary>
    private async Task<Outcome> RejectUnlessHandledAsync(ReadDelivery delivery, string reason, Exception? e)
    {
        try
        {
            return await AbsorbAsync(delivery).ConfigureAwait(false) ?? Rejected(delivery.Event.Id, reason, e);
        }
        catch (CourierException asking)
        {
            // As long as the inbox cannot be asked, nobody knows.
            return new Outcome.Modified(
                options.LongestDelay, $"{reason}; and the inbox cannot be asked: {asking.Message}");
        }
    }

    private async Task<Outcome?> AbsorbAsync(ReadDelivery delivery) =>
        inboxStore is not null
        && (await inboxStore.AbsorbHandledAsync(binding.Queue, [delivery.Key], CancellationToken.None).ConfigureAwait(
            false))[0]
            ? Absorbed(delivery.Event)
            : null;

    private Outcome Rejected(string id, string reason, Exception? e)
    {
        if (options.Settling == Settling.OnArrival) return Gone(id, reason, e);
        LogRejected(logger, binding.Queue, id, reason);
        return new Outcome.Rejected(reason, e is null ? null : Failure.Of(e));
    }

    /// <summary>There is nothing left to settle, and nobody to give it back to.</summary>
    private Outcome Gone(string id, string reason, Exception? e)
    {
        LogGone(logger, binding.Queue, id, reason, e);
        return Outcome.Accepted;
    }

    /// <summary>There is no time left to finish it.</summary>
    private Outcome GivenBack(ReadDelivery delivery, Exception e) =>
        options.Settling == Settling.OnArrival ? Gone(delivery.Event.Id, "the host stopped in the middle of it", e)
            : Outcome.Released;

    /// <summary>
    /// Not the handler's own failure, but one of dealing with it, such as an exception whose own message throws. It
    /// must not end the loop that handles deliveries; attempts go on counting.
    /// </summary>
    private Outcome.Modified Undealt(Exception e) =>
        new(options.LongestDelay, $"the delivery could not be dealt with: {e.GetType().FullName}");

    private Outcome Absorbed(Event @event)
    {
        LogAbsorbed(logger, binding.Queue, @event.Type, @event.Id);
        return Outcome.Accepted;
    }

    /// <summary>
    /// What went wrong, in a line; of an exception that only points to the one in it, what that one says.
    /// </summary>
    private static string Said(Exception e) =>
        e.InnerException is { } inner && e.Message.Contains("inner exception", StringComparison.OrdinalIgnoreCase)
        ? $"{e.GetType().Name}: {Said(inner)}"
        : $"{e.GetType().Name}: {FirstLine(e.Message)}";

    private static string FirstLine(string text) => text.Split('\n', 2)[0].TrimEnd();

    [LoggerMessage(
        201, LogLevel.Warning, "Queue {Queue}: {Type} {Id} failed attempt {Attempt} of {MaxAttempts}, next in {Delay}")]
    private static partial void LogFailed(
        ILogger logger, string queue, string type, string id, int attempt, int maxAttempts, TimeSpan delay,
            Exception e);

    [LoggerMessage(202, LogLevel.Error, "Queue {Queue}: event {Id} is set aside as a dead letter: {Reason}")]
    private static partial void LogRejected(ILogger logger, string queue, string id, string reason);

    [LoggerMessage(
        203, LogLevel.Debug, "Queue {Queue}: a further copy of {Type} {Id} is absorbed, it has been handled")]
    private static partial void LogAbsorbed(ILogger logger, string queue, string type, string id);

    [LoggerMessage(204, LogLevel.Warning,
        "Queue {Queue}: a batch of {Count} failed and was rolled back; its events are handled one at a time")]
    private static partial void LogBatchFailed(ILogger logger, string queue, int count, Exception e);

    [LoggerMessage(205, LogLevel.Error, "Queue {Queue}: event {Id} is gone, it was settled on arrival: {Reason}")]
    private static partial void LogGone(ILogger logger, string queue, string id, string reason, Exception? e);

    [LoggerMessage(206, LogLevel.Error,
        "Queue {Queue}: the handler of {Events} ran longer than its limit of {Limit} and ignores its "
        + "cancellation; until it ends, its place is taken, and whatever it does in the library's transaction has no "
        + "effect")]
    private static partial void LogDoesNotEnd(ILogger logger, string queue, string events, TimeSpan limit);

    [LoggerMessage(207, LogLevel.Warning,
        "Queue {Queue}: {Type} {Id} was given up in the middle of its work; its lease was lost, and another has it")]
    private static partial void LogLost(ILogger logger, string queue, string type, string id);
}
