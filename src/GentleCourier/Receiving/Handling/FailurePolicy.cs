using GentleCourier.Engines;
using GentleCourier.Events;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// What becomes of a delivery that was not handled: by the queue's options, by what its receiver threw, and by what the
/// inbox knows.
/// </summary>
internal sealed partial class FailurePolicy(
    QueueBinding binding, IInboxPort? inboxStore, TimeProvider clock, ILogger logger)
{
    private readonly ReceiverOptions options = binding.Options;

    /// <summary>Its attempt has failed.</summary>
    public async Task<Outcome> AfterAsync(ReadDelivery delivery, Cut cut, Exception e)
    {
        if (cut == Cut.TimeLimit)
            e = new TimeoutException($"the handler ran longer than its time limit of {options.TimeLimit}", e);
        var @event = delivery.Event;
        var error = Words.InLine(e);
        if (options.Settling == Settling.OnArrival) return Gone(@event.Id, error, e);
        switch (e)
        {
            case RejectException:
                return Reject(@event.Id, Words.Of(e), e);
            case ContractException:
                return Reject(@event.Id, $"unreadable body: {Words.Of(e)}", e);
        }
        if (binding.IsUseless(e)) return Reject(@event.Id, $"useless to try again: {error}", e);

        var age = @event.Time is { } time ? clock.GetUtcNow() - time : (TimeSpan?)null;
        var (delay, reason) = Redelivery.After(
            options, delivery.Attempt, (e as RetryException)?.Delay, age, Random.Shared.NextDouble());
        if (delay is null)
        {
            return await RejectUnlessHandledAsync(delivery, $"{reason}; the last with {error}", e)
                .ConfigureAwait(false);
        }
        LogFailed(logger, binding.Queue, @event.Type, @event.Id, delivery.Attempt, options.MaxAttempts, delay.Value, e);
        return new Outcome.Modified(delay.Value, e is RetryException ? Words.FirstLine(Words.Of(e)) : error);
    }

    /// <summary>It is set aside: no further attempt is any use.</summary>
    public Outcome Reject(string id, string reason, Exception? e)
    {
        if (options.Settling == Settling.OnArrival) return Gone(id, reason, e);
        LogRejected(logger, binding.Queue, id, reason);
        return new Outcome.Rejected(reason, e is null ? null : Failure.Of(e));
    }

    /// <summary>
    /// The end of the attempts is no proof that none succeeded: a worker may have died between its commit and settling,
    /// or the answer to a commit may have been lost. Where the inbox knows the event it is done, and not set aside.
    /// </summary>
    public async Task<Outcome> RejectUnlessHandledAsync(ReadDelivery delivery, string reason, Exception? e)
    {
        try
        {
            return await AbsorbAsync(delivery).ConfigureAwait(false) ?? Reject(delivery.Event.Id, reason, e);
        }
        catch (CourierException asking)
        {
            // As long as the inbox cannot be asked, nobody knows.
            return new Outcome.Modified(
                options.LongestDelay, $"{reason}; and the inbox cannot be asked: {asking.Message}");
        }
    }

    /// <summary>Another was at it: where it has been handled a copy is counted, otherwise it comes again.</summary>
    public async Task<Outcome> AfterAnotherAsync(ReadDelivery delivery)
    {
        try
        {
            return await AbsorbAsync(delivery).ConfigureAwait(false) ?? Outcome.Released;
        }
        catch (CourierException asking)
        {
            return new Outcome.Modified(options.FirstDelay, Words.InLine(asking));
        }
    }

    /// <summary>The host stops, and there is no time left to finish it.</summary>
    public Outcome AfterStop(ReadDelivery delivery) =>
        options.Settling == Settling.OnArrival ? Gone(delivery.Event.Id, "the host stopped in the middle of it", null)
            : Outcome.Released;

    /// <summary>It has been handled before.</summary>
    public Outcome Absorbed(Event @event)
    {
        LogAbsorbed(logger, binding.Queue, @event.Type, @event.Id);
        return Outcome.Accepted;
    }

    /// <summary>
    /// Not the handler's own failure, but one of dealing with it. It must not end the loop that handles deliveries;
    /// attempts go on counting.
    /// </summary>
    public Outcome NotDealtWith(Exception e)
    {
        LogNotDealtWith(logger, binding.Queue, e);
        return new Outcome.Modified(
            options.LongestDelay, $"the delivery could not be dealt with: {Words.InLine(e)}");
    }

    private async Task<Outcome?> AbsorbAsync(ReadDelivery delivery) =>
        inboxStore is not null
        && (await inboxStore.AbsorbHandledAsync(binding.Queue, [delivery.Key], CancellationToken.None)
            .ConfigureAwait(false))[0]
            ? Absorbed(delivery.Event)
            : null;

    /// <summary>There is nothing left to settle, and nobody to give it back to.</summary>
    private Outcome Gone(string id, string reason, Exception? e)
    {
        LogGone(logger, binding.Queue, id, reason, e);
        return Outcome.Accepted;
    }

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

    [LoggerMessage(205, LogLevel.Error, "Queue {Queue}: event {Id} is gone, it was settled on arrival: {Reason}")]
    private static partial void LogGone(ILogger logger, string queue, string id, string reason, Exception? e);

    [LoggerMessage(209, LogLevel.Error, "Queue {Queue}: a delivery could not be dealt with; it comes again")]
    private static partial void LogNotDealtWith(ILogger logger, string queue, Exception e);
}
