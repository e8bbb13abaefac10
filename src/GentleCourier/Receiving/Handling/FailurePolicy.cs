using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Telemetry;
using GentleCourier.Watching;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// What becomes of a delivery that was not handled: by whose fault it was, by the queue's options, by what its receiver
/// threw, and by what the inbox knows.
/// </summary>
internal sealed partial class FailurePolicy(QueueBinding binding, IInboxPort? inboxStore, Brakes brakes,
    Deliveries deliveries, TimeProvider clock, ILogger logger)
{
    private readonly string queue = binding.Queue;
    private readonly ReceiverOptions options = binding.Options;
    private readonly Repeats repeats = new();
    private long handled, failed;

    /// <summary>How many events have been handled, and how many attempts have failed.</summary>
    public (long Handled, long Failed) Totals => (Volatile.Read(ref handled), Volatile.Read(ref failed));

    /// <summary>Its attempt has failed. Its outcome is decided here, or as soon as more is known.</summary>
    public async Task DecideAsync(ReadDelivery delivery, Cut cut, Exception e)
    {
        if (cut == Cut.TimeLimit)
            e = new TimeoutException($"the handler ran longer than its time limit of {options.TimeLimit}", e);
        Interlocked.Increment(ref failed);
        if (options.Settling == Settling.OnArrival)
        {
            delivery.Taken.Settle(Gone(delivery.Event.Id, Words.InLine(e), e));
            return;
        }
        var blame = BlameFor(delivery, cut, e);
        if (blame == Blame.Others)
        {
            delivery.Taken.Settle(ComesAgain(delivery, Words.InLine(e)));
            return;
        }
        var outcome = await CountedAsync(delivery, e).ConfigureAwait(false);
        if (outcome is Outcome.Rejected) brakes.Forget(delivery);
        if (outcome is not Outcome.Rejected || blame == Blame.Event)
        {
            delivery.Taken.Settle(outcome);
            return;
        }
        var spared = ComesAgain(delivery, Words.InLine(e));
        deliveries.Doubt(delivery.Taken, new Doubt(delivery.Event.Type, outcome, spared));
        // The brake may have come on since it was asked.
        if (brakes.IsOn(delivery.Event.Type)) deliveries.Spare(delivery.Event.Type);
    }

    /// <summary>An event has been handled.</summary>
    public void Succeeded(ReadDelivery delivery)
    {
        Interlocked.Increment(ref handled);
        brakes.Succeeded(delivery);
        deliveries.Uphold(delivery.Event.Type);
        repeats.Forget();
    }

    /// <summary>
    /// A brake is on, and it is not the one to be tried: it is passed by, so that others can be tried.
    /// </summary>
    public Outcome Waits(ReadDelivery delivery) =>
        ComesAgain(delivery, $"passed by: the brake is on for events of type {delivery.Event.Type}", wasTried: false);

    /// <summary>
    /// Nobody here handles its type. Another instance may, during a deployment or after it; the rest goes on meanwhile.
    /// </summary>
    public Outcome NoReceiver(ReadDelivery delivery)
    {
        var type = delivery.Event.Type;
        var reason = $"no receiver for type '{type}' on queue '{queue}'; it handles "
            + string.Join(", ", binding.Handlers.Keys);
        if (TriedFor(delivery) >= options.Patience || options.Settling == Settling.OnArrival)
            return Reject(delivery.Event.Id, reason, null);
        if (repeats.IsTimeToSay($"unknown {type}", out var times))
            LogNoReceiver(logger, queue, type, delivery.Event.Id, reason, times, options.Patience);
        return ComesAgain(delivery, reason, wasTried: false);
    }

    /// <summary>It is set aside: no further attempt is any use.</summary>
    public Outcome Reject(string id, string reason, Exception? e) => options.Settling == Settling.OnArrival
        ? Gone(id, reason, e) : new Outcome.Rejected(reason, e is null ? null : Failure.Of(e));

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
            return ComesAgain(delivery, $"{reason}; and the inbox cannot be asked: {asking.Message}");
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
            return ComesAgain(delivery, Words.InLine(asking), wasTried: false);
        }
    }

    /// <summary>The host stops, and there is no time left to finish it.</summary>
    public Outcome AfterStop(ReadDelivery delivery) =>
        options.Settling == Settling.OnArrival ? Gone(delivery.Event.Id, "the host stopped in the middle of it", null)
            : Outcome.Released;

    /// <summary>It has been handled before, with the same data or with other.</summary>
    public Outcome Absorbed(ReadDelivery delivery, InboxAnswer answer)
    {
        var @event = delivery.Event;
        if (answer.HandledHash is not { } handledHash)
        {
            LogAbsorbed(logger, queue, @event.Type, @event.Id);
            return Outcome.Accepted;
        }
        var (was, now) = (
            OtherDataFigures.HashOf(handledHash), OtherDataFigures.HashOf(delivery.ForInbox.Hash!.Value));
        Meters.OtherData(queue);
        if (options.OnOtherData == OtherData.SetAside)
            return Reject(@event.Id, $"an event of this source and id was handled with other data: {was}, not {now}",
                null);
        if (repeats.IsTimeToSay("other data", out var times))
            LogOtherData(logger, queue, @event.Type, @event.Source, @event.Id, was, now, times);
        return Outcome.Accepted;
    }

    /// <summary>
    /// Not the handler's own failure, but one of dealing with it. It must not end the loop that handles deliveries;
    /// attempts go on counting.
    /// </summary>
    public Outcome NotDealtWith(Exception e)
    {
        LogNotDealtWith(logger, queue, e);
        return new Outcome.Modified(
            Redelivery.LongestLater, $"the delivery could not be dealt with: {Words.InLine(e)}");
    }

    private Blame BlameFor(ReadDelivery delivery, Cut cut, Exception e)
    {
        // What a statement says that was cancelled by a time limit is no news of its database.
        if (cut == Cut.None && Cause.IsAround(e, inboxStore))
        {
            if (brakes.FailedAround(delivery, e)) return Blame.Event;
            if (repeats.IsTimeToSay($"around {Cause.KindOf(e)}", out var times))
                LogAround(logger, queue, WorkerName.OfProcess, ReceiverOf(delivery), delivery.Event.Type,
                    delivery.Event.Id, Words.InLine(e), times, times == 1 ? e : null);
            return Blame.Others;
        }
        // It has said by itself when it wants the event again.
        if (e is RetryException) return Blame.Open;
        var nature = (IsRejection(e) ? Nature.Rejection : Nature.Plain)
            | (TriedFor(delivery) >= options.Patience ? Nature.TooOld : Nature.Plain);
        var blame = brakes.Failed(delivery, e, nature);
        if (blame == Blame.Others) deliveries.Spare(delivery.Event.Type);
        return blame;
    }

    private bool IsRejection(Exception e) => e is RejectException or ContractException || binding.IsUseless(e);

    private async Task<Outcome> CountedAsync(ReadDelivery delivery, Exception e)
    {
        var @event = delivery.Event;
        var error = Words.InLine(e);
        switch (e)
        {
            case RejectException:
                return Reject(@event.Id, Words.Of(e), e);
            case ContractException:
                return Reject(@event.Id, $"unreadable body: {Words.Of(e)}", e);
        }
        if (binding.IsUseless(e)) return Reject(@event.Id, $"useless to try again: {error}", e);

        var age = clock.GetElapsedTime(delivery.Taken.Attempts.Began);
        var (delay, reason) = Redelivery.After(
            options, delivery.Attempt, AskedBy(e, @event), age, Random.Shared.NextDouble());
        if (delay is null)
        {
            return await RejectUnlessHandledAsync(delivery, $"{reason}; the last with {error}", e)
                .ConfigureAwait(false);
        }
        if (repeats.IsTimeToSay(Cause.KindOf(e), out var times))
            LogFailed(logger, queue, WorkerName.OfProcess, ReceiverOf(delivery), @event.Type, @event.Id,
                delivery.Attempt, options.MaxAttempts, delay.Value, error, times,
                times == 1 && delivery.Attempt == 1 ? e : null);
        return new Outcome.Modified(delay.Value, e is RetryException ? Words.FirstLine(Words.Of(e)) : error);
    }

    /// <summary>
    /// What its receiver asks for. A copy that comes again when the inbox has forgotten the other one would act a
    /// second time.
    /// </summary>
    private TimeSpan? AskedBy(Exception e, CourierEvent @event)
    {
        var asked = (e as RetryException)?.Delay;
        if (!(asked > binding.LongestAsked)) return asked;
        if (repeats.IsTimeToSay("asked", out var times))
            LogTooLong(logger, queue, @event.Type, @event.Id, asked.Value, binding.LongestAsked.Value, times);
        return binding.LongestAsked;
    }

    /// <summary>Later, behind others, and without counting.</summary>
    private Outcome.Modified ComesAgain(ReadDelivery delivery, string why, bool wasTried = true) =>
        new(Redelivery.Later(TriedFor(delivery), Random.Shared.NextDouble()), why)
        {
            Counts = false, WasTried = wasTried,
        };

    private TimeSpan TriedFor(ReadDelivery delivery) => clock.GetElapsedTime(delivery.Taken.Attempts.FirstTried);

    private string ReceiverOf(ReadDelivery delivery) => binding.Handlers[delivery.Event.Type].Receiver.Name;

    private async Task<Outcome?> AbsorbAsync(ReadDelivery delivery)
    {
        if (inboxStore is null) return null;
        var answers = await inboxStore.AbsorbHandledAsync(binding.Queue, [delivery.ForInbox], CancellationToken.None)
            .ConfigureAwait(false);
        return answers[0].IsHandled ? Absorbed(delivery, answers[0]) : null;
    }

    /// <summary>There is nothing left to settle, and nobody to give it back to.</summary>
    private Outcome Gone(string id, string reason, Exception? e)
    {
        LogGone(logger, queue, id, reason, e);
        return Outcome.Accepted;
    }

    [LoggerMessage(201, LogLevel.Warning,
        "Queue {Queue}, worker {Worker}: {Receiver} failed at {Type} {Id}, attempt {Attempt} of {MaxAttempts}; next in "
        + "{Delay}: {Problem} ({Times} like it since the last success)")]
    private static partial void LogFailed(ILogger logger, string queue, string worker, string receiver, string type,
        string id, int attempt, int maxAttempts, TimeSpan delay, string problem, int times, Exception? e);

    [LoggerMessage(
        203, LogLevel.Debug, "Queue {Queue}: a further copy of {Type} {Id} is absorbed, it has been handled")]
    private static partial void LogAbsorbed(ILogger logger, string queue, string type, string id);

    [LoggerMessage(226, LogLevel.Warning,
        "Queue {Queue}: {Type} {Source} {Id} came with other data than was handled under this source and id, and is "
        + "absorbed: handled {Handled}, came {Came} ({Times} like it so far). Does its publisher give two events one "
        + "id?")]
    private static partial void LogOtherData(
        ILogger logger, string queue, string type, string source, string id, string handled, string came, int times);

    [LoggerMessage(205, LogLevel.Error, "Queue {Queue}: event {Id} is gone, it was settled on arrival: {Reason}")]
    private static partial void LogGone(ILogger logger, string queue, string id, string reason, Exception? e);

    [LoggerMessage(209, LogLevel.Error, "Queue {Queue}: a delivery could not be dealt with; it comes again")]
    private static partial void LogNotDealtWith(ILogger logger, string queue, Exception e);

    [LoggerMessage(224, LogLevel.Warning,
        "Queue {Queue}, worker {Worker}: {Receiver} could not handle {Type} {Id} for a reason around it; it comes "
        + "again, and the attempt does not count: {Problem} ({Times} like it since the last success)")]
    private static partial void LogAround(ILogger logger, string queue, string worker, string receiver, string type,
        string id, string problem, int times, Exception? e);

    [LoggerMessage(227, LogLevel.Warning,
        "Queue {Queue}: the receiver of {Type} {Id} asks for it again in {Asked}; it comes in {Longest}, half of what "
        + "the inbox remembers, since a copy that comes later could act a second time ({Times} like it since the last "
        + "success). For longer delays raise Courier:Retention:Inbox")]
    private static partial void LogTooLong(
        ILogger logger, string queue, string type, string id, TimeSpan asked, TimeSpan longest, int times);

    [LoggerMessage(225, LogLevel.Warning,
        "Queue {Queue}: {Type} {Id} goes back, {Reason}; {Times} of them so far. They come again for {Patience}, and "
        + "are set aside then")]
    private static partial void LogNoReceiver(
        ILogger logger, string queue, string type, string id, string reason, int times, TimeSpan patience);
}
