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
    private readonly Credit credit;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly long began;
    private readonly Lock gate = new();
    private readonly Brake around = new(AroundAfter);
    private readonly Dictionary<string, Brake> byType;
    private readonly Doubts doubts = new();
    // Nearly always all is well, and every event asks.
    private volatile bool isClear = true;

    public Brakes(QueueBinding binding, Credit credit, TimeProvider clock, ILogger logger)
    {
        queue = binding.Queue;
        this.credit = credit;
        this.clock = clock;
        this.logger = logger;
        began = clock.GetTimestamp();
        byType = binding.Handlers.Keys.ToDictionary(type => type, _ => new Brake(binding.Options.BrakeAfter));
    }

    private TimeSpan Now => clock.GetElapsedTime(began);

    /// <summary>Whether events of this type are tried now.</summary>
    public Turn Begin(string type)
    {
        if (isClear) return Turn.Free;
        lock (gate)
        {
            var brake = byType[type];
            if (!around.IsOn && !brake.IsOn) return Turn.Free;
            var now = Now;
            if (!around.IsDue(now) || !brake.IsDue(now)) return Turn.Wait;
            around.Try(now);
            brake.Try(now);
            Pause();
            return Turn.Trial;
        }
    }

    /// <summary>Whether nothing at all is fetched at this moment but what is to be tried.</summary>
    public bool HoldTheQueue
    {
        get
        {
            if (isClear) return false;
            lock (gate) return around.IsOn || byType.Values.All(b => b.IsOn);
        }
    }

    /// <summary>An event has failed by itself, as far as anybody knows.</summary>
    /// <returns>Whether that counts.</returns>
    public bool Failed(ReadDelivery delivery, Exception e)
    {
        var type = delivery.Event.Type;
        lock (gate)
        {
            var brake = byType[type];
            var (now, wasOn) = (Now, brake.IsOn);
            var counts = brake.Failed(
                delivery.Key, Cause.KindOf(e), delivery.IsTrial, now, Random.Shared.NextDouble());
            Changed(brake, wasOn, now, $"events of type {type}", e);
            return counts;
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
            var (now, wasOn) = (Now, around.IsOn);
            around.Failed(delivery.Key, AnyCause, delivery.IsTrial, now, Random.Shared.NextDouble());
            Changed(around, wasOn, now, "all events", e);
            return false;
        }
    }

    public void Succeeded(ReadDelivery delivery)
    {
        if (isClear) return;
        lock (gate)
        {
            doubts.Succeeded(delivery.Key);
            var brake = byType[delivery.Event.Type];
            Off(around, "all events", delivery);
            Off(brake, $"events of type {delivery.Event.Type}", delivery);
            isClear = doubts.IsEmpty && around.IsClear && byType.Values.All(b => b.IsClear);
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

    private void Changed(Brake brake, bool wasOn, TimeSpan now, string what, Exception e)
    {
        isClear = false;
        if (!brake.IsOn) return;
        Pause();
        var next = brake.NextTry - now;
        if (!wasOn) LogOn(logger, queue, what, next, Words.InLine(e));
        else if (brake.Tries > 0 && BitOperations.IsPow2(brake.Tries))
            LogStillOn(logger, queue, what, now - brake.Since, brake.Tries, next, Words.InLine(e));
    }

    private void Off(Brake brake, string what, ReadDelivery handled)
    {
        if (brake.IsOn) LogOff(logger, queue, what, Now - brake.Since, brake.Tries);
        brake.Succeeded(handled.Key);
    }

    /// <summary>Fetching waits where there is nothing that could be tried.</summary>
    private void Pause()
    {
        var all = byType.Values.All(b => b.IsOn) ? byType.Values.Min(b => b.NextTry) : (TimeSpan?)null;
        var until = around.IsOn && !(all > around.NextTry) ? around.NextTry : all;
        credit.Pause(until is { } time ? time - Now : null);
    }

    [LoggerMessage(221, LogLevel.Warning,
        "Queue {Queue}: the brake is on for {What}: different ones fail alike and none succeeds. One at a time is "
        + "tried, the next in {Next}; that does not count as an attempt. The cause: {Problem}")]
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
