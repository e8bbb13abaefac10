using GentleCourier.ByHand;
using static GentleCourier.Watching.Findings;

namespace GentleCourier.Watching;

/// <summary>Findings of what somebody has ordered by hand, for as long as it stands.</summary>
internal static class ByHandFindings
{
    public static IEnumerable<Finding> OfQueue(QueueFigures queue)
    {
        if (queue.Pause is not { } pause) yield break;
        var waits = queue.Ready > 0 ? $"; it has {HowMany(queue.Ready)} waiting" : "";
        yield return new Finding("queue-paused", false,
            $"queue {queue.Queue} is paused {Who(pause.By, pause.Why, pause.For, pause.Left)}{waits}",
            $"courier resume {queue.Queue}", pause.For) { Subject = queue.Queue };
    }

    public static IEnumerable<Finding> OfRelay(string store, OutboxFigures outbox)
    {
        if (outbox.Pause is not { } pause) yield break;
        var waits = outbox.Waiting > 0 ? $"; {StoreFindings.Count(outbox.Waiting, outbox.Precision)} wait" : "";
        yield return new Finding("relay-paused", false,
            $"the relay of {store} is paused {Who(pause.By, pause.Why, pause.For, pause.Left)}{waits}",
            $"courier resume --outbox --store {store}", pause.For);
    }

    /// <summary>Of all workers of a broker.</summary>
    public static IEnumerable<Finding> OfWorkers(
        IReadOnlyList<Instruction> instructions, IReadOnlyList<WorkerFigures> workers)
    {
        foreach (var order in instructions)
        {
            var name = order.Worker is not { } id ? null : workers.FirstOrDefault(w => w.Id == id)?.Worker;
            // Of one that is gone nothing is left to say.
            if (order.Worker is not null && name is null) continue;
            var who = Who(order.By, order.Why, order.For, order.Left, "its process ends");
            if (order.Steering is { } steering)
            {
                yield return new Finding("worker-steered", false,
                    (name is null ? $"all workers of queue {order.Queue} are"
                        : $"worker {name} of queue {order.Queue} is") + $" to receive with {steering} {who}",
                    $"courier steer {order.Queue} {(name is null ? "" : $"--worker {name} ")}--end", order.For)
                {
                    Subject = name is null ? order.Queue! : $"{name} on {order.Queue}",
                };
                continue;
            }
            var held = workers.First(w => w.Id == order.Worker).Receivers.Sum(r => (long)r.InHand);
            yield return new Finding("worker-drained", false,
                $"worker {name} takes no more {who}; "
                + (held == 0 ? "it has nothing in hand" : $"it has {HowMany(held)} in hand"),
                held == 0 ? $"stop it; or courier drain {name} --end" : "wait for it", order.For) { Subject = name! };
        }
        foreach (var worker in workers)
        {
            foreach (var receiver in worker.Receivers.Where(r => r.SteeringProblem is not null))
                yield return new Finding("steering-refused", true,
                    $"worker {worker.Worker} does not receive from queue {receiver.Queue} as somebody has said by "
                    + $"hand: {receiver.SteeringProblem}",
                    $"courier steer {receiver.Queue} --worker {worker.Worker}, with what it can; or --end")
                {
                    Subject = $"{worker.Worker} on {receiver.Queue}",
                };
        }
    }

    /// <summary>By whom, why, since when and for how long.</summary>
    private static string Who(
        string by, string? why, TimeSpan since, TimeSpan? left, string end = "somebody ends it") =>
        $"by hand ({by}{(why is null ? "" : $": {why}")}; {For(since)} ago, "
        + (left is { } still ? $"for {For(still)} more)" : $"until {end})");
}
