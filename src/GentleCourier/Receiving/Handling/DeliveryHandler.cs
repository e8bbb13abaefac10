using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using GentleCourier.Telemetry;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Takes deliveries from their bytes to their outcomes: read, look into the inbox where something begins before its
/// transaction does, one attempt, and what follows from it. It never throws: whatever goes wrong becomes an outcome.
/// </summary>
internal sealed partial class DeliveryHandler
{
    private readonly QueueBinding binding;
    private readonly ReceiverOptions options;
    private readonly AttemptRunner runner;
    private readonly Brakes brakes;
    private readonly FailurePolicy policy;
    private readonly InboxLook? look;
    private readonly Deliveries owner;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly IWitness? witness;

    public DeliveryHandler(QueueBinding binding, IInboxPort? store, ContractCodec codec, IServiceScopeFactory scopes,
        Deliveries owner, TimeProvider clock, ILogger logger, IWitness? witness = null)
    {
        this.binding = binding;
        options = binding.Options;
        var inbox = options.Inbox ? store : null;
        runner = new AttemptRunner(binding, inbox, codec, scopes, logger);
        brakes = new Brakes(binding, owner, clock, logger);
        policy = new FailurePolicy(binding, inbox, brakes, owner, clock, logger);
        look = inbox is null || binding.BeginsFirst ? null : new InboxLook(inbox, binding.Queue, clock);
        this.owner = owner;
        this.clock = clock;
        this.logger = logger;
        this.witness = witness;
    }

    /// <summary>How many events have been handled, and how many attempts have failed.</summary>
    public (long Handled, long Failed) Counts => policy.Totals;

    /// <summary>Which brake is on, and for how long; null where none is.</summary>
    public (string Why, TimeSpan For)? Brake => brakes.Now;

    /// <summary>See <see cref="Brakes.Steer"/>.</summary>
    public void SteerBrakes(int after) => brakes.Steer(after);

    /// <summary>Deliveries have come, and will be handled when their turn comes.</summary>
    public void Expect(IReadOnlyList<TakenDelivery> deliveries) => look?.Ahead(deliveries);

    /// <summary>No handler takes up anything more: whatever still waits to be decided is decided.</summary>
    public void End() => owner.End();

    /// <summary>
    /// Handles deliveries that were taken up together. When it ends, each has its outcome, or will have it soon.
    /// </summary>
    /// <param name="deliveries">One, or as many as a batch may have.</param>
    /// <param name="outOfTime">
    /// Cancelled when there is no time left to finish; what has not finished is given back then.
    /// </param>
    public async Task HandleAsync(IReadOnlyList<TakenDelivery> deliveries, CancellationToken outOfTime)
    {
        try
        {
            FaultPoint.Pass(FaultPoint.HandedOverNotHandled);
            await HandleInBatchesAsync(deliveries, outOfTime).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            foreach (var held in deliveries)
                if (held is { IsDecided: false, IsInDoubt: false }) held.Settle(policy.NotDealtWith(e));
        }
    }

    private async Task HandleInBatchesAsync(IReadOnlyList<TakenDelivery> deliveries, CancellationToken outOfTime)
    {
        List<ReadDelivery>? batch = null;
        foreach (var held in deliveries)
        {
            if (await ReadAsync(held).ConfigureAwait(false) is not { } read) continue;
            // A queue may have receivers of single events and of batches: a batch is what comes in a row for one of
            // them.
            if (batch is not null && batch[0].Event.Type != read.Event.Type)
            {
                await HandleBatchAsync(batch, outOfTime).ConfigureAwait(false);
                batch = null;
            }
            if (binding.Handlers[read.Event.Type].TakesBatches) (batch ??= []).Add(read);
            else await TryAsync([read], outOfTime).ConfigureAwait(false);
        }
        if (batch is not null) await HandleBatchAsync(batch, outOfTime).ConfigureAwait(false);
    }

    private async Task HandleBatchAsync(List<ReadDelivery> batch, CancellationToken outOfTime)
    {
        if (await TryAsync(batch, outOfTime).ConfigureAwait(false)) return;
        // As a whole the batch has failed, and without effect. One at a time, only those fail that have to. Where it
        // was tried in spite of a brake, the first of them is.
        var turn = batch[0].IsTrial ? Turn.Trial : (Turn?)null;
        foreach (var alone in batch)
        {
            alone.Failure = null;
            // Another may have handled it in the meantime, which may be why the batch failed.
            alone.Taken.Look = null;
            await TryAsync([alone], outOfTime, turn).ConfigureAwait(false);
            turn = null;
        }
    }

    /// <summary>Reads the event; where that is all that can be done with it, its outcome is decided.</summary>
    private async Task<ReadDelivery?> ReadAsync(TakenDelivery held)
    {
        ReadDelivery read;
        try
        {
            read = new ReadDelivery(held, held.Event);
        }
        catch (UnreadableEventException e)
        {
            held.Settle(policy.Reject("(unread)", $"unreadable event: {e.Message}", e));
            return null;
        }

        if (read.Attempt > options.MaxAttempts)
        {
            var reason =
                $"out of attempts: handed over {options.MaxAttempts} times, and the last attempt was never settled; "
                + "its worker was killed or lost its lease";
            held.Settle(await policy.RejectUnlessHandledAsync(read, reason, null).ConfigureAwait(false));
            return null;
        }
        if (binding.Handlers.ContainsKey(read.Event.Type)) return read;
        held.Settle(policy.NoReceiver(read));
        return null;
    }

    /// <summary>Handles one delivery, or a batch of one type, if it is their turn.</summary>
    /// <returns>False: a batch has failed as a whole, nothing of it has happened, and no outcome is decided.</returns>
    private async Task<bool> TryAsync(List<ReadDelivery> together, CancellationToken outOfTime, Turn? known = null)
    {
        var deliveries = StillHeld(together);
        if (deliveries.Count == 0) return true;
        var turn = known ?? brakes.Begin(deliveries[0].Event.Type);
        foreach (var delivery in deliveries) delivery.IsTrial = turn == Turn.Trial;
        if (turn == Turn.Wait)
        {
            foreach (var delivery in deliveries) delivery.Taken.Settle(policy.Waits(delivery));
            return true;
        }

        using var span = Spans.Process(binding.Queue, deliveries);
        Meters.Begin(binding.Queue, deliveries, clock);
        var began = clock.GetTimestamp();
        witness?.Begins(binding, deliveries);
        using var attempt = new Attempt(options.TimeLimit, () => Overrun(deliveries), clock, outOfTime);
        foreach (var delivery in deliveries) delivery.Taken.BeginAttempt(attempt);
        var fresh = deliveries;
        Result result;
        try
        {
            fresh = await NotYetHandledAsync(deliveries, attempt.Token).ConfigureAwait(false);
            if (fresh.Count == 0)
            {
                brakes.ToldNothing(deliveries);
                witness?.Ended(binding, deliveries, [], null);
                return true;
            }
            result = await runner.RunAsync(fresh, attempt, outOfTime).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            // The inbox could not be looked into: the attempt has failed before it began.
            result = AttemptRunner.ResultOf(e, handledElsewhere: false, attempt, outOfTime);
        }
        finally
        {
            if (attempt.End()) owner.Stuck(-1);
        }
        var failure = (result as Result.Failed)?.Exception;
        witness?.Ended(binding, deliveries, fresh, result);
        if (failure is not null) span.Failed(failure);
        Meters.Process(binding.Queue, fresh, clock.GetElapsedTime(began), failure);
        var isDecided = await SettleAsync(fresh, result).ConfigureAwait(false);
        if (isDecided) brakes.ToldNothing(deliveries, pause: true);
        return isDecided;
    }

    /// <summary>What follows from the result of an attempt, for each delivery.</summary>
    /// <returns>False: nothing has been decided, each is to be tried alone.</returns>
    private async Task<bool> SettleAsync(List<ReadDelivery> deliveries, Result result)
    {
        switch (result)
        {
            case Result.CommittedResult:
                await AcceptAsync(deliveries).ConfigureAwait(false);
                return true;
            case Result.StoppedResult:
                foreach (var delivery in deliveries) delivery.Taken.Settle(policy.AfterStop(delivery));
                return true;
            case Result.Failed failed when deliveries.Count > 1:
                LogBatchFailed(logger, binding.Queue, deliveries.Count, Words.InLine(failed.Exception));
                return false;
            case Result.HandledElsewhereResult when deliveries.Count > 1:
                return false;
        }

        var alone = deliveries[0];
        // It may have been reported and settled long before its handler ended.
        if (alone.Taken.IsDecided || alone.Taken.IsInDoubt) return true;
        if (result is Result.Failed { Reason: Cut.LeaseLost })
        {
            LogLost(logger, binding.Queue, alone.Event.Type, alone.Event.Id);
            alone.Taken.Drop();
            return true;
        }
        if (result is Result.Failed { Reason: var cut, Exception: var e })
            await policy.DecideAsync(alone, cut, e).ConfigureAwait(false);
        else
            alone.Taken.Settle(await policy.AfterAnotherAsync(alone).ConfigureAwait(false));
        return true;
    }

    private async Task AcceptAsync(List<ReadDelivery> deliveries)
    {
        foreach (var delivery in deliveries)
        {
            if (delivery.Failure is not null) continue;
            look?.Handled(delivery.Key);
            delivery.Taken.Settle(Outcome.Accepted);
            policy.Succeeded(delivery);
        }
        foreach (var delivery in deliveries)
            if (delivery.Failure is { } failure)
                await policy.DecideAsync(delivery, Cut.None, failure).ConfigureAwait(false);
    }

    /// <summary>Without those that another has by now, or whose outcome has been decided.</summary>
    private static List<ReadDelivery> StillHeld(List<ReadDelivery> together)
    {
        if (!together.Exists(static d => d.Taken.IsDecided || d.Taken.IsLost)) return together;
        foreach (var delivery in together)
            if (delivery.Taken.IsLost) delivery.Taken.Drop();
        return together.FindAll(static d => !d.Taken.IsDecided);
    }

    private async Task<List<ReadDelivery>> NotYetHandledAsync(
        List<ReadDelivery> deliveries, CancellationToken cancellationToken)
    {
        if (look is null) return deliveries;
        var handled = await look.AbsorbAsync(deliveries, cancellationToken).ConfigureAwait(false);
        if (!Array.Exists(handled, static answer => answer.IsHandled)) return deliveries;
        for (var i = 0; i < handled.Length; i++)
            if (handled[i].IsHandled) deliveries[i].Taken.Settle(policy.Absorbed(deliveries[i], handled[i]));
        return deliveries.FindAll(static d => !d.Taken.IsDecided);
    }

    /// <summary>
    /// A handler does not end. Its deliveries go on without it; whatever it still does has no effect.
    /// </summary>
    private void Overrun(List<ReadDelivery> deliveries)
    {
        owner.Stuck(1);
        LogDoesNotEnd(logger, binding.Queue, string.Join(", ", deliveries.Select(d => $"{d.Event.Type} {d.Event.Id}")),
            options.TimeLimit!.Value);
        foreach (var delivery in deliveries) _ = Task.Run(() => GiveUpAsync(delivery));
    }

    private async Task GiveUpAsync(ReadDelivery delivery)
    {
        try
        {
            var failure = new TimeoutException("and it ignores its cancellation");
            await policy.DecideAsync(delivery, Cut.TimeLimit, failure).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            delivery.Taken.Settle(policy.NotDealtWith(e));
        }
    }

    [LoggerMessage(204, LogLevel.Information,
        "Queue {Queue}: a batch of {Count} failed and was rolled back; its events are handled one at a time: "
        + "{Problem}")]
    private static partial void LogBatchFailed(ILogger logger, string queue, int count, string problem);

    [LoggerMessage(206, LogLevel.Error,
        "Queue {Queue}: the handler of {Events} ran longer than its limit of {Limit} and ignores its "
        + "cancellation; until it ends, its place is taken, and whatever it does in the library's transaction has no "
        + "effect")]
    private static partial void LogDoesNotEnd(ILogger logger, string queue, string events, TimeSpan limit);

    [LoggerMessage(207, LogLevel.Warning,
        "Queue {Queue}: {Type} {Id} was given up in the middle of its work; its lease was lost, and another has it")]
    private static partial void LogLost(ILogger logger, string queue, string type, string id);
}
