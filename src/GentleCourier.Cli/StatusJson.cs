using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>A status for scripts.</summary>
internal static class StatusJson
{
    public static void Print(CourierStatus status, IReadOnlyDictionary<string, IReadOnlyList<HeldEvent>> held) =>
        Plain.PrintJson(Of(status, held));

    /// <summary>In one line, without what is held.</summary>
    public static void PrintLine(CourierStatus status) =>
        Console.WriteLine(Plain.Json(Of(status, new Dictionary<string, IReadOnlyList<HeldEvent>>())));

    private static object Of(CourierStatus status, IReadOnlyDictionary<string, IReadOnlyList<HeldEvent>> held) => new
    {
        broker = status.Broker?.Broker,
        at = status.Broker?.At,
        queues = status.Broker is null ? null : status.Queues.Select(Queue),
        workers = status.Broker?.Workers?.Select(Worker),
        findings = status.Findings.Select(f => new
        {
            f.Code, f.Subject, f.IsWrong, f.What, f.Next, forSeconds = f.For?.TotalSeconds,
        }),
        outboxes = status.Stores.Select(s => Outbox(s, held.GetValueOrDefault(s.Store) ?? [])),
        status.IsDrained,
    };

    private static object Queue(QueueStatus q) => new
    {
        name = q.Figures.Queue, q.Figures.Ready, q.Figures.InHand, q.Figures.Scheduled, q.Figures.DeadLetters,
        oldestAgeSeconds = q.Figures.OldestAge?.TotalSeconds, q.Figures.Types,
        counts = q.Figures.History is [.., var last] ? new
        {
            last.Came, last.Accepted, last.Failed, last.SetAside,
        } : null,
        rates = q.Rates is not { } rates ? null : new
        {
            overSeconds = rates.Over.TotalSeconds, arrivalsPerSecond = rates.Arrivals, handledPerSecond = rates.Handled,
            failedPerSecond = rates.Failed, setAsidePerSecond = rates.SetAside,
        },
        pause = Pause(q.Figures.Pause), lagSeconds = q.Lag?.TotalSeconds, q.Utilisation, q.WorkersNeeded,
        q.Forecast.Outlook,
        emptyInSeconds = q.Forecast.About is not { } about ? null : new
        {
            about = about.TotalSeconds, soonest = q.Forecast.Soonest?.TotalSeconds,
            latest = q.Forecast.Latest?.TotalSeconds, DrainForecast.Confidence,
        },
        handlingSeconds = Times(q.HandlingTimes), waitingSeconds = Times(q.WaitingTimes),
    };

    private static object Worker(WorkerFigures w) => new
    {
        w.Worker, w.Version, w.Since, seenSecondsAgo = w.Seen.TotalSeconds, aheadSeconds = w.Ahead?.TotalSeconds,
        ordersHeard = w.Heard, w.IsDrained,
        receivers = w.Receivers.Select(r => new
        {
            r.Queue, r.Types, r.Prefetch, r.Parallel, r.InHand, r.Running, r.Utilisation, r.Handled, r.Failed,
            longestSeconds = r.Longest?.TotalSeconds, timeLimitSeconds = r.TimeLimit?.TotalSeconds,
            handlingSeconds = Times(r.HandlingTimes), waitingSeconds = Times(r.WaitingTimes), r.Brake,
            brakedForSeconds = r.BrakedFor?.TotalSeconds, r.Problem, r.IsHeld, r.Steering, r.SteeringProblem,
        }),
    };

    private static object? Pause(Pause? pause) => pause is null ? null : new
    {
        pause.By, pause.Why, forSeconds = pause.For.TotalSeconds, leftSeconds = pause.Left?.TotalSeconds,
    };

    private static object? Times(Histogram? times) => times is not { Count: > 0 } ? null : new
    {
        times.Count, median = times.Percentile(0.5)?.TotalSeconds, p95 = times.Percentile(0.95)?.TotalSeconds,
        p99 = times.Percentile(0.99)?.TotalSeconds,
    };

    private static object Outbox(StoreFigures s, IReadOnlyList<HeldEvent> held) => new
    {
        store = s.Store, s.Outbox.Waiting, s.Outbox.Held, s.Outbox.Refused, s.Outbox.Precision,
        oldestAgeSeconds = s.Outbox.OldestAge?.TotalSeconds, s.Outbox.Relay, s.Outbox.LastError, s.Outbox.DeadRows,
        s.Outbox.FormerBrokers, clockDoubtedForSeconds = s.Outbox.Clock?.DoubtedFor?.TotalSeconds,
        clocksApart = s.Outbox.Clock?.Apart.Select(c => new { c.Relay, aheadSeconds = c.Ahead.TotalSeconds }),
        pause = Pause(s.Outbox.Pause), s.Outbox.Later, nextDueInSeconds = s.Outbox.NextDueIn?.TotalSeconds,
        oldestSnapshotSeconds = s.Outbox.OldestSnapshot?.TotalSeconds, s.Outbox.SnapshotHolder,
        heldEvents = held.Select(h => new { h.Row, h.Id, h.Type, h.Attempts, h.LastError, h.Due, h.Added }),
    };
}
