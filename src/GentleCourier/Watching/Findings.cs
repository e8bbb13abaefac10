using System.Globalization;
using GentleCourier.Engines;

namespace GentleCourier;

/// <summary>
/// What goes wrong, or will, by the figures of a broker and of stores. Pure computation: it knows what it is given, and
/// says nothing of what is unknown.
/// </summary>
public static class Findings
{
    /// <summary>A handler that has been running for longer, without a time limit, is worth a look.</summary>
    public static readonly TimeSpan LongRun = TimeSpan.FromMinutes(10);

    /// <summary>A transaction open for longer keeps more deleted rows than one would like.</summary>
    public static readonly TimeSpan LongSnapshot = TimeSpan.FromMinutes(10);

    /// <summary>Of a broker.</summary>
    /// <param name="topology">Its queues and routes.</param>
    /// <param name="queues">How full they are.</param>
    /// <param name="workers">Who receives; null where nobody knows.</param>
    public static IReadOnlyList<Finding> Of(
        Topology topology, IReadOnlyList<QueueFigures> queues, IReadOnlyList<WorkerFigures>? workers)
    {
        ArgumentNullException.ThrowIfNull(topology);
        ArgumentNullException.ThrowIfNull(queues);
        return
        [
            .. workers is null ? [] : queues.SelectMany(q => OfQueue(q, topology, workers)),
            .. (workers ?? []).SelectMany(w => w.Receivers.SelectMany(r => OfReceiver(w, r, topology))),
            .. workers is null ? [] : OfVersions(workers),
            .. queues.Where(q => q.DeadLetters > 0).Select(q => new Finding(
                "dead-letters", IsWrong: false, Say($"queue {q.Queue} has {q.DeadLetters:N0} dead letters"),
                $"courier dead-letters --queue {q.Queue}")),
        ];
    }

    /// <summary>Of a store.</summary>
    /// <param name="store">Its address, without a secret.</param>
    /// <param name="outbox">How its outbox does.</param>
    public static IReadOnlyList<Finding> Of(string store, OutboxFigures outbox)
    {
        ArgumentNullException.ThrowIfNull(outbox);
        var found = new List<Finding>();
        if (outbox is { Waiting: > 0, Relay: null })
            found.Add(new Finding("outbox-unrelayed", true,
                Say($"{outbox.Waiting:N0} events wait in the outbox of {store}, and no relay leads"),
                "start a service with this store, and Courier:Relay:Enabled on"));
        if (outbox.LastError is { } error)
            found.Add(new Finding("outbox-stopped", true,
                $"the relay of {store} fails: {error}", "mend what it says; the relay goes on by itself"));
        if (outbox.Held > 0)
            found.Add(new Finding("outbox-held", true,
                Say($"the broker does not take {outbox.Held:N0} events of {store} yet"),
                "see why below; a type without a route waits until a queue is routed to it"));
        if (outbox.Refused > 0)
            found.Add(new Finding("outbox-refused", false,
                Say($"the broker has refused {outbox.Refused:N0} events of {store} for good"), "see why below"));
        if (outbox.OldestSnapshot >= LongSnapshot)
            found.Add(new Finding("snapshot-held", true,
                $"a transaction in the server of {store} has been open for {For(outbox.OldestSnapshot.Value)} "
                + $"({outbox.SnapshotHolder}): what is deleted stays as long",
                "end it, or have its owner do so"));
        return found;
    }

    private static IEnumerable<Finding> OfQueue(
        QueueFigures queue, Topology topology, IReadOnlyList<WorkerFigures> workers)
    {
        if (workers.Any(w => w.Receivers.Any(r => r.Queue == queue.Queue))) yield break;
        var events = queue.Ready + queue.Scheduled;
        var types = topology.Routes.Where(r => r.Queue == queue.Queue).Select(r => r.Type).ToHashSet();
        var similar = workers.SelectMany(w => w.Receivers, (w, r) => (Worker: w, Receiver: r))
            .Where(x => Similar.Are(x.Receiver.Queue, queue.Queue) && x.Receiver.Types.Any(types.Contains))
            .ToList();
        if (similar is [var other, ..])
        {
            yield return new Finding("queue-misspelt", true,
                Say($"nobody receives from queue {queue.Queue}, where {events:N0} events wait, but worker ")
                + $"{other.Worker.Worker} receives the same type from {other.Receiver.Queue}: a slip in a name?",
                $"if {other.Receiver.Queue} is the slip, name the queue {queue.Queue} in that worker; otherwise nobody "
                + $"needs {queue.Queue}");
        }
        else if (events > 0)
        {
            yield return new Finding("queue-unreceived", true,
                Say($"{events:N0} events wait in queue {queue.Queue}, the oldest for {For(queue.OldestAge)}, and ")
                + "nobody receives from it",
                "start its worker");
        }
    }

    private static IEnumerable<Finding> OfReceiver(WorkerFigures worker, ReceiverFigures receiver, Topology topology)
    {
        var queue = receiver.Queue;
        if (!topology.Routes.Any(r => r.Queue == queue))
        {
            var type = receiver.Types is [var first, ..] ? first : "TYPE";
            var meant = topology.Queues.FirstOrDefault(q => Similar.Are(q, queue));
            yield return new Finding("receiver-unrouted", true,
                $"worker {worker.Worker} receives from queue {queue}, and no type of event goes there"
                + (meant is null ? "" : $"; there is a queue {meant}"),
                meant is null ? $"courier schema apply broker --route {type}={queue}"
                    : $"name the queue {meant} in that worker");
        }
        if (receiver.Brake is { } brake)
            yield return new Finding("queue-braked", true,
                $"worker {worker.Worker} has braked queue {queue} for {For(receiver.BrakedFor)}: {brake}",
                "mend what fails; it goes on by itself, and no attempts are used up meanwhile");
        if (receiver.Problem is { } problem)
            yield return new Finding("link-failing", true,
                $"worker {worker.Worker} cannot receive from queue {queue}: {problem}", "mend what it says");
        if (receiver.Longest is not { } longest) yield break;
        if (receiver.TimeLimit is { } limit ? longest > 0.8 * limit : longest > LongRun)
            yield return new Finding("handler-long", receiver.TimeLimit is null,
                $"a handler of queue {queue} in worker {worker.Worker} has been running for {For(longest)}"
                + (receiver.TimeLimit is { } its ? $", its time limit is {For(its)}" : ", and has no time limit"),
                receiver.TimeLimit is null ? $"see what it does; set Courier:Receivers:{queue}:TimeLimit"
                    : "see what it does, or give it more time");
    }

    private static IEnumerable<Finding> OfVersions(IReadOnlyList<WorkerFigures> workers) =>
        from w in workers
        from r in w.Receivers
        group w.Version by r.Queue into queue
        let versions = queue.Distinct().Order(StringComparer.Ordinal).ToList()
        where versions.Count > 1
        select new Finding("versions-differ", false,
            $"workers of queue {queue.Key} run different versions: {string.Join(", ", versions)}",
            "wait for the deployment to end, or end it");

    private static string For(TimeSpan? time) => time is { } known ? known switch
    {
        { TotalMinutes: < 2 } => Say($"{known.TotalSeconds:0} s"),
        { TotalHours: < 2 } => Say($"{known.TotalMinutes:0} min"),
        { TotalDays: < 2 } => Say($"{known.TotalHours:0} h"),
        _ => Say($"{known.TotalDays:0} days"),
    } : "an unknown time";

    private static string Say(FormattableString text) => text.ToString(CultureInfo.InvariantCulture);
}
