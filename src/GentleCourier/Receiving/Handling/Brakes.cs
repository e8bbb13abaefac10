using System.Numerics;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// The brakes of one queue: one for each type of event, and one for what fails around all of them. Where none may be
/// handled, nothing is fetched until one may be tried. Thread-safe.
/// </summary>
internal sealed partial class Brakes
{
    // What is around a receiver does not depend on the event: a few are enough.
    private const int AroundAfter = 3;
    private const string AnyCause = "around";

    private readonly string queue;
    private readonly Deliveries deliveries;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly long began;
    private readonly Lock gate = new();
    private readonly Brake around = new(AroundAfter);
    private readonly Dictionary<string, Brake> byType;
    private readonly Doubts doubts = new();
    // Nearly always all is well, and every event asks.
    private volatile bool isClear = true;

    public Brakes(QueueBinding binding, Deliveries deliveries, TimeProvider clock, ILogger logger)
    {
        queue = binding.Queue;
        this.deliveries = deliveries;
        this.clock = clock;
        this.logger = logger;
        began = clock.GetTimestamp();
        byType = binding.Handlers.Keys.ToDictionary(type => type, _ => new Brake(binding.Options.BrakeAfter));
    }

    /// <summary>The one that has been on for longest, and why; null where none is.</summary>
    public (string Why, TimeSpan For)? Now
    {
        get
        {
            if (isClear) return null;
            lock (gate)
            {
                var on = byType.Where(b => b.Value.IsOn)
                    .Select(b => (What: $"events of type {b.Key} fail with {b.Value.Kind}", b.Value.Since)).ToList();
                if (around.IsOn) on.Add(("something around the receivers fails", around.Since));
                if (on.Count == 0) return null;
                var (what, since) = on.MinBy(b => b.Since);
                return (what, Time - since);
            }
        }
    }

    private TimeSpan Time => clock.GetElapsedTime(began);

    /// <summary>So many events put brakes on from now on; 0: none, and those of types are off.</summary>
    public void Steer(int after)
    {
        lock (gate)
        {
            foreach (var brake in byType.Values) brake.Steer(after);
            Pause();
        }
    }

    /// <summary>Whether events of this type are tried now.</summary>
    public Turn Begin(string type)
    {
        if (isClear) return Turn.Free;
        lock (gate)
        {
            var brake = byType[type];
            if (!around.IsOn && !brake.IsOn) return Turn.Free;
            var now = Time;
            if (!around.IsDue(now) || !brake.IsDue(now)) return Turn.Wait;
            around.Try(now);
            brake.Try(now);
            Pause();
            return Turn.Trial;
        }
    }

    /// <summary>Whether events of this type are not to blame at this moment.</summary>
    public bool IsOn(string type)
    {
        lock (gate) return byType[type].IsOn;
    }

    /// <summary>An event has failed by itself, as far as anybody knows.</summary>
    public Blame Failed(ReadDelivery delivery, Exception e, Nature nature)
    {
        var type = delivery.Event.Type;
        lock (gate)
        {
            var brake = byType[type];
            var (now, tries) = (Time, TriesOf(brake));
            nature |= Told(delivery);
            var blame = brake.Failed(delivery.Key, Cause.KindOf(e), nature, now, Random.Shared.NextDouble());
            if (nature.HasFlag(Nature.Trial)) around.TryAgain(Next(brake, now));
            Changed(brake, tries, now, $"events of type {type}", e);
            return blame;
        }
    }

    /// <summary>Something around an event has failed.</summary>
    /// <returns>Whether that counts all the same, since others succeed.</returns>
    public bool FailedAround(ReadDelivery delivery, Exception e)
    {
        lock (gate)
        {
            isClear = false;
            if (doubts.Failed(delivery.Key)) return true;
            if (Cause.IsConflict(e)) return false;
            var (now, tries) = (Time, TriesOf(around));
            var nature = Told(delivery);
            around.Failed(delivery.Key, AnyCause, nature, now, Random.Shared.NextDouble());
            if (nature.HasFlag(Nature.Trial)) byType[delivery.Event.Type].TryAgain(Next(around, now));
            Changed(around, tries, now, "all events", e);
            return false;
        }
    }

    public void Succeeded(ReadDelivery delivery)
    {
        if (isClear) return;
        lock (gate)
        {
            delivery.IsTrial = false;
            doubts.Succeeded(delivery.Key);
            var brake = byType[delivery.Event.Type];
            Off(around, "all events", delivery);
            Off(brake, $"events of type {delivery.Event.Type}", delivery);
            isClear = doubts.IsEmpty && around.IsClear && byType.Values.All(b => b.IsClear);
            Pause();
        }
    }

    /// <summary>
    /// These have ended. Where they were tried in spite of a brake, and that told nothing (copies of what has been
    /// handled, another's lock), the next try is soon: nobody is to wait for news that never comes.
    /// </summary>
    public void ToldNothing(List<ReadDelivery> deliveries, bool pause = false)
    {
        if (!deliveries.TrueForAll(static d => d.IsTrial)) return;
        lock (gate)
        {
            var next = pause ? Time + Brake.FirstPause : Time;
            around.TryAgain(next);
            byType[deliveries[0].Event.Type].TryAgain(next);
            Pause();
        }
    }

    /// <summary>It has been set aside.</summary>
    public void Forget(ReadDelivery delivery)
    {
        if (isClear) return;
        lock (gate)
        {
            doubts.Forget(delivery.Key);
            byType[delivery.Event.Type].Forget(delivery.Key);
        }
    }

    /// <summary>Whether it was the one tried; from now on that has told something.</summary>
    private static Nature Told(ReadDelivery delivery)
    {
        var nature = delivery.IsTrial ? Nature.Trial : Nature.Plain;
        delivery.IsTrial = false;
        return nature;
    }

    /// <summary>When a brake that was tried along with this one is to be tried again.</summary>
    private static TimeSpan Next(Brake told, TimeSpan now) => told.IsOn ? told.NextTry : now + Brake.FirstPause;

    /// <summary>How many tries have failed since it came on; null while it is off.</summary>
    private static int? TriesOf(Brake brake) => brake.IsOn ? brake.Tries : null;

    private void Changed(Brake brake, int? before, TimeSpan now, string what, Exception e)
    {
        isClear = false;
        if (!brake.IsOn) return;
        Pause();
        var next = brake.NextTry - now;
        if (before is null) LogOn(logger, queue, what, next, Words.InLine(e));
        else if (brake.Tries > before && BitOperations.IsPow2(brake.Tries))
            LogStillOn(logger, queue, what, now - brake.Since, brake.Tries, next, Words.InLine(e));
    }

    private void Off(Brake brake, string what, ReadDelivery handled)
    {
        if (brake.IsOn) LogOff(logger, queue, what, Time - brake.Since, brake.Tries);
        brake.Succeeded(handled.Key);
    }

    /// <summary>Fetching waits where there is nothing that could be tried.</summary>
    private void Pause()
    {
        var all = byType.Values.All(b => b.IsOn) ? byType.Values.Min(b => b.NextTry) : (TimeSpan?)null;
        var until = around.IsOn && !(all > around.NextTry) ? around.NextTry : all;
        deliveries.Pause(until is { } time ? time - Time : null);
    }

    [LoggerMessage(221, LogLevel.Warning,
        "Queue {Queue}: the brake is on for {What}: different ones fail alike and none succeeds. One at a time is "
        + "tried, the next in {Next}, and others are passed by; none of it counts as an attempt. The cause: {Problem}")]
    private static partial void LogOn(ILogger logger, string queue, string what, TimeSpan next, string problem);

    [LoggerMessage(222, LogLevel.Warning,
        "Queue {Queue}: the brake has been on for {What} for {Time}, {Tries} tries have failed; the next in {Next}. "
        + "The cause: {Problem}")]
    private static partial void LogStillOn(
        ILogger logger, string queue, string what, TimeSpan time, int tries, TimeSpan next, string problem);

    [LoggerMessage(223, LogLevel.Information,
        "Queue {Queue}: the brake is off for {What}, after {Time} and {Tries} tries: one has been handled")]
    private static partial void LogOff(ILogger logger, string queue, string what, TimeSpan time, int tries);
}
