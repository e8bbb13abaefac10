using System.Runtime.CompilerServices;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using GentleCourier.Receiving.Handling;

namespace GentleCourier.Testing;

/// <summary>Sees what one service does, and breaks what the trial is to break. Thread-safe.</summary>
internal sealed class Witness(string service, Sight sight, TrialClock clock, Func<ContractCodec> codec) : IWitness
{
    private readonly AsyncLocal<RunningHandler?> mine = new();
    private readonly ConditionalWeakTable<TakenDelivery, Tried> tried = [];

    public void Relayed(EncodedEvent @event) => sight.Relayed(service, @event, codec());

    public void Begins(QueueBinding binding, IReadOnlyList<ReadDelivery> deliveries)
    {
        var receiver = binding.Handlers[deliveries[0].Event.Type].Receiver;
        mine.Value = new RunningHandler(service, binding.Queue, receiver, deliveries);
        sight.Begins(mine.Value);
    }

    public void Ended(QueueBinding binding, IReadOnlyList<ReadDelivery> deliveries, IReadOnlyList<ReadDelivery> handled,
        Result? result)
    {
        var isCommitted = result is Result.CommittedResult || mine.Value is { IsCommitted: true };
        foreach (var delivery in handled)
        {
            var attempt = new Tried(
                binding.Handlers[delivery.Event.Type].Receiver, isCommitted,
                (result as Result.Failed)?.Exception ?? delivery.Failure);
            tried.AddOrUpdate(delivery.Taken, attempt);
            // Its answer is lost: that it comes again, and is known then, is told as well.
            if (isCommitted && result is Result.Failed)
                sight.Told(Of(binding, delivery.Taken, Outcome.Accepted, attempt with { Exception = null }));
        }
        // A batch that has failed as a whole is tried one by one.
        if (binding.Options.Settling == Settling.OnArrival && !(result is Result.Failed && deliveries.Count > 1))
        {
            foreach (var delivery in deliveries)
            {
                tried.TryGetValue(delivery.Taken, out var attempt);
                sight.Settled(delivery.Taken, Of(binding, delivery.Taken, Outcome.Accepted, attempt));
            }
        }
        if (mine.Value is { } running) sight.Ended(running);
        mine.Value = null;
    }

    public void Settled(QueueBinding binding, TakenDelivery delivery, Outcome outcome)
    {
        // What is settled on arrival is told of when its handler has ended.
        if (binding.Options.Settling == Settling.OnArrival && outcome is Outcome.AcceptedOutcome) return;
        tried.TryGetValue(delivery, out var attempt);
        sight.Settled(delivery, Of(binding, delivery, outcome, attempt));
    }

    /// <exception cref="RetryException">The trial breaks something here.</exception>
    public void Passes(string place)
    {
        var fault = place switch
        {
            FaultPoint.HandledNotCommitted => TrialFaults.KilledBeforeCommit,
            FaultPoint.CommittedNotSettled => TrialFaults.AnswerLost,
            _ => TrialFaults.None,
        };
        if (fault == TrialFaults.None || mine.Value is not { } running) return;
        running.IsCommitted |= place == FaultPoint.CommittedNotSettled;
        if (sight.Breaks(fault, running.Queue, running.Deliveries))
            throw new RetryException(TimeSpan.Zero, $"broken on purpose by the trial: {fault}");
    }

    private HandledEvent Of(QueueBinding binding, TakenDelivery delivery, Outcome outcome, Tried? attempt)
    {
        var @event = delivery.TryRead()?.Event ?? new CourierEvent { Id = "(unreadable)", Source = "", Type = "" };
        var (how, delay, counts, reason) = outcome switch
        {
            Outcome.AcceptedOutcome when attempt is { Exception: { } e } =>
                (HandledAs.GivenBack, null, true, $"gone, since it was settled on arrival: {Words.InLine(e)}"),
            Outcome.AcceptedOutcome => (
                attempt is { Committed: true } ? HandledAs.Handled : HandledAs.HandledBefore, null, true, null),
            Outcome.Modified again => (HandledAs.ComesAgain, (TimeSpan?)again.Delay, again.Counts, again.Error),
            Outcome.Rejected rejected => (HandledAs.SetAside, null, true, rejected.Reason),
            _ => (HandledAs.GivenBack, null, false, (string?)"untried"),
        };
        return new HandledEvent(service, binding.Queue, @event, codec())
        {
            Receiver = attempt?.Receiver,
            Attempt = delivery.Attempts.Attempt,
            Outcome = how,
            Delay = delay,
            Counts = counts,
            Reason = reason,
            Exception = how == HandledAs.Handled ? null : attempt?.Exception,
            At = clock.Now,
        };
    }

    private sealed record Tried(Type Receiver, bool Committed, Exception? Exception);
}
