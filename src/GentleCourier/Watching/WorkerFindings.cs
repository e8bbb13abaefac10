using static GentleCourier.Watching.Findings;

namespace GentleCourier.Watching;

/// <summary>Findings of those who receive.</summary>
internal static class WorkerFindings
{
    // A handler that has been running for longer, without a time limit, is worth a look.
    private static readonly TimeSpan LongRun = TimeSpan.FromMinutes(10);
    // A message may take a while, and clocks need not agree to the millisecond.
    private static readonly TimeSpan Apart = TimeSpan.FromSeconds(5);

    /// <summary>Of one worker and one queue.</summary>
    public static IEnumerable<Finding> OfReceiver(
        WorkerFigures worker, ReceiverFigures receiver, IReadOnlyList<QueueFigures> queues) =>
        [.. Unrouted(worker, receiver, queues), .. Stopped(worker, receiver), .. Long(worker, receiver)];

    /// <summary>Of all of them together.</summary>
    public static IEnumerable<Finding> OfAll(
        IReadOnlyList<WorkerFigures> workers, IReadOnlyList<QueueFigures> queues) =>
        [.. Hoarding(workers, queues), .. Versions(workers), .. workers.SelectMany(Clock)];

    private static IEnumerable<Finding> Unrouted(
        WorkerFigures worker, ReceiverFigures receiver, IReadOnlyList<QueueFigures> queues)
    {
        var queue = receiver.Queue;
        if (queues.FirstOrDefault(q => q.Queue == queue) is { Types: null or { Count: > 0 } }) yield break;
        var type = receiver.Types is [var first, ..] ? first : "TYPE";
        var meant = queues.FirstOrDefault(q => Similar.Are(q.Queue, queue))?.Queue;
        yield return new Finding("receiver-unrouted", true,
            $"worker {worker.Worker} receives from queue {queue}, and no type of event goes there"
            + (meant is null ? "" : $"; there is a queue {meant}"),
            meant is null ? $"courier schema apply broker --route {type}={queue}"
                : $"name the queue {meant} in that worker");
    }

    private static IEnumerable<Finding> Stopped(WorkerFigures worker, ReceiverFigures receiver)
    {
        if (receiver.Brake is { } brake)
            yield return new Finding("queue-braked", true,
                $"worker {worker.Worker} has braked queue {receiver.Queue} for {For(receiver.BrakedFor)}: {brake}",
                "mend what fails; it goes on by itself, and no attempts are used up meanwhile", receiver.BrakedFor);
        if (receiver.Problem is { } problem)
            yield return new Finding("link-failing", true,
                $"worker {worker.Worker} cannot receive from queue {receiver.Queue}: {problem}", "mend what it says");
    }

    private static IEnumerable<Finding> Long(WorkerFigures worker, ReceiverFigures receiver)
    {
        var (queue, limit) = (receiver.Queue, receiver.TimeLimit);
        if (receiver.Longest is not { } longest || (limit is { } most ? longest <= 0.8 * most : longest <= LongRun))
            yield break;
        yield return new Finding("handler-long", limit is null,
            $"a handler of queue {queue} in worker {worker.Worker} has been running for {For(longest)}"
            + (limit is null ? ", and has no time limit" : $", its time limit is {For(limit)}"),
            limit is null ? $"see what it does; set Courier:Receivers:{queue}:TimeLimit"
                : "see what it does, or give it more time", longest);
    }

    // What lies ready in one worker cannot be handled by another, which has nothing to do, and had not before: one that
    // has only just begun will find something, as long as there is something left in the queue.
    private static IEnumerable<Finding> Hoarding(
        IReadOnlyList<WorkerFigures> workers, IReadOnlyList<QueueFigures> queues) =>
        from w in workers
        from r in w.Receivers
        let ready = r.InHand - r.Running
        where r.Running > 0 && ready > r.Parallel && r.Longest > TimeSpan.FromSeconds(1) && r.Brake is null
            && queues.Any(q => q.Queue == r.Queue && q.Ready == 0)
        let idle = workers.FirstOrDefault(other => other.Receivers.Any(o =>
            o is { InHand: 0, Utilisation: < 0.1, Brake: null, Problem: null, IsHeld: false } && o.Queue == r.Queue))
        where idle is not null
        select new Finding("worker-hoarding", true,
            $"worker {w.Worker} holds {HowMany(ready)} of queue {r.Queue} that it has no handler free for, "
            + $"while worker {idle.Worker} has nothing to do",
            $"set Courier:Receivers:{r.Queue}:Prefetch to {r.Parallel}, or leave it self-tuned", r.Longest)
        {
            Subject = $"{w.Worker} on {r.Queue}",
        };

    private static IEnumerable<Finding> Versions(IReadOnlyList<WorkerFigures> workers) =>
        from w in workers
        from r in w.Receivers
        group w.Version by r.Queue into queue
        let versions = queue.Distinct().Order(StringComparer.Ordinal).ToList()
        where versions.Count > 1
        select new Finding("versions-differ", false,
            $"workers of queue {queue.Key} run different versions: {string.Join(", ", versions)}",
            "wait for the deployment to end, or end it") { Subject = queue.Key };

    private static IEnumerable<Finding> Clock(WorkerFigures worker)
    {
        if (worker.Ahead is not { } ahead || ahead.Duration() < Apart) yield break;
        yield return new Finding("clocks-apart", true,
            $"the clock of worker {worker.Worker} is {For(ahead.Duration())} {(ahead > TimeSpan.Zero ? "ahead of" :
                "behind")} the broker's",
            "have both hosts keep time (NTP); ages and delays of events that it publishes are wrong by as much")
        {
            Subject = worker.Worker,
        };
    }
}
