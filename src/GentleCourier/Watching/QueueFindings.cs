using static GentleCourier.Watching.Findings;

namespace GentleCourier.Watching;

/// <summary>Findings of one queue.</summary>
internal static class QueueFindings
{
    private static readonly TimeSpan Ahead = TimeSpan.FromHours(1);
    // Fewer may be chance; and now and then one is set aside everywhere.
    private const int ManyFailures = 50, ManySetAside = 10;
    private const double LargeShare = 0.01;

    private static readonly TimeSpan StandsStill = TimeSpan.FromSeconds(20);

    public static IEnumerable<Finding> Of(QueueStatus queue, IReadOnlyList<WorkerFigures>? workers) =>
    [
        // Of a queue that is paused by hand none of this is to be wondered at.
        .. queue.Figures.Pause is not null ? [] : (IEnumerable<Finding>)
            [.. workers is null ? [] : Unreceived(queue, workers), .. Withheld(queue), .. Growing(queue)],
        .. Storm(queue),
        .. DeadLetters(queue),
    ];

    private static IEnumerable<Finding> Unreceived(QueueStatus queue, IReadOnlyList<WorkerFigures> workers)
    {
        if (queue.Receivers is { Count: > 0 }) yield break;
        var (name, figures) = (queue.Figures.Queue, queue.Figures);
        var events = figures.Ready + figures.Scheduled;
        var types = (figures.Types ?? []).ToHashSet();
        var similar = workers.SelectMany(w => w.Receivers, (w, r) => (Worker: w, Receiver: r))
            .Where(x => Similar.Are(x.Receiver.Queue, name) && x.Receiver.Types.Any(types.Contains))
            .ToList();
        if (similar is [var other, ..])
        {
            yield return new Finding("queue-misspelt", true,
                $"nobody receives from queue {name}, which has {HowMany(events)} waiting, but worker "
                + $"{other.Worker.Worker} receives the same type from {other.Receiver.Queue}: a slip in a name?",
                $"if {other.Receiver.Queue} is the slip, name the queue {name} in that worker; otherwise nobody "
                + $"needs {name}", figures.OldestAge);
        }
        else if (events > 0)
        {
            var more = queue.Rates is { Arrivals: > 0 } rates ? $", and {Rate(rates.Arrivals)} come" : "";
            var since = figures.OldestAge is { } age ? $", the oldest for {For(age)}" : "";
            yield return new Finding("queue-unreceived", true,
                $"queue {name} has {HowMany(events)} waiting{since}{more}; nobody receives from it",
                since.Length > 0 ? "start its worker" : "start its worker; if it runs, name its store here as well",
                figures.OldestAge);
        }
    }

    /// <summary>
    /// Of a broker that hands over by itself: it has events, workers that ask for them, and keeps them.
    /// </summary>
    private static IEnumerable<Finding> Withheld(QueueStatus queue)
    {
        var (figures, receivers) = (queue.Figures, queue.Receivers);
        if (figures is not { Ready: > 0, OldestAge: null, History.Count: > 1 } || receivers is not { Count: > 0 }
            || receivers.Any(static r => r.InHand > 0 || r.BrakedFor is not null || r.Problem is not null)) yield break;
        var counts = figures.History.OrderBy(static c => c.At).ToList();
        var (last, at) = (counts[^1], counts.FindLastIndex(c => c.At <= counts[^1].At - StandsStill));
        if (at < 0 || counts[at] is var before && (before.Came <= before.Accepted + before.SetAside
            || (before.Accepted, before.Failed, before.SetAside) != (last.Accepted, last.Failed, last.SetAside)))
            yield break;
        yield return new Finding("queue-withheld", true,
            $"queue {queue.Figures.Queue} has {HowMany(queue.Figures.Ready)} waiting, and {Workers(receivers.Count)} "
            + $"with nothing in hand; the broker has given {(receivers.Count == 1 ? "it" : "them")} none for "
            + For(last.At - counts[at].At),
            "see at the broker who else receives from it, where it lets only one, and whether it holds the queue back",
            last.At - counts[at].At);
    }

    private static IEnumerable<Finding> Growing(QueueStatus queue)
    {
        if (queue is not { Forecast.Outlook: Outlook.Grows, Receivers.Count: > 0, Rates: { } rates }) yield break;
        var waiting = queue.Figures.Waiting!.Value;
        var count = queue.Receivers.Count;
        yield return new Finding("queue-growing", true,
            $"queue {queue.Figures.Queue} never catches up: {Rate(rates.Arrivals)} come, {Rate(rates.Handled)} are "
            + $"handled by {Workers(count)}; {(waiting == 1 ? "1 waits" : Say($"{waiting:N0} wait"))}, and in an hour "
            + "there will be about "
            + About(DrainForecast.After(Ahead, waiting, rates)),
            queue.WorkersNeeded is { } enough && enough > count
                ? $"at least {Workers(enough)} like these keep up, and catch up within {For(QueueStatus.GoodTime)}"
                : "see how long its handlers take",
            rates.Over);
    }

    private static IEnumerable<Finding> Storm(QueueStatus queue)
    {
        if (queue.Rates is not { } rates || rates.Failed * rates.Over.TotalSeconds < ManyFailures
            || rates.Failed <= rates.Handled) yield break;
        yield return new Finding("redelivery-storm", true,
            $"of queue {queue.Figures.Queue} {Rate(rates.Failed)} attempts fail, and {Rate(rates.Handled)} events are "
            + "handled: most of the work is for nothing",
            "see in the workers' logs what fails; a later first retry costs less "
            + $"(Courier:Receivers:{queue.Figures.Queue}:FirstDelay)", rates.Over);
    }

    private static IEnumerable<Finding> DeadLetters(QueueStatus queue)
    {
        var name = queue.Figures.Queue;
        if (queue.Rates is { SetAside: > 0 } rates)
        {
            var count = (long)Math.Round(rates.SetAside * rates.Over.TotalSeconds);
            yield return new Finding(
                "dead-letters-rising", count >= ManySetAside && rates.SetAside > LargeShare * rates.Handled,
                $"queue {name} has set aside {HowMany(count)} in the last {For(rates.Over)}; dead letters in all: "
                + Say($"{queue.Figures.DeadLetters:N0}"),
                $"courier dead-letters --queue {name}", rates.Over);
        }
        else if (queue.Figures.DeadLetters > 0)
            yield return new Finding("dead-letters", isWrong: false,
                $"queue {name} has set aside {HowMany(queue.Figures.DeadLetters)} as dead letters",
                $"courier dead-letters --queue {name}");
    }

    private static string Workers(int count) => count == 1 ? "1 worker" : Say($"{count:N0} workers");
}
