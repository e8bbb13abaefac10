using GentleCourier;


namespace Fairness;

/// <summary>A pier notice is to be composed for a sailing; some take much longer than others.</summary>
[WireType("skerryline.notice-wanted")]
public sealed record NoticeWanted(string Sailing, int WorkMilliseconds);

/// <summary>
/// Notices, the worker, as slow as the event says. A real one would compose; here only the time counts.
/// </summary>
internal sealed class ComposeNotice(Worker worker) : IReceiver<NoticeWanted>
{
    public async Task HandleAsync(Delivery<NoticeWanted> delivery, CancellationToken cancellationToken)
    {
        var begun = worker.Elapsed;
        await Task.Delay(delivery.Data.WorkMilliseconds, cancellationToken);
        worker.Note(new Bar(worker.Number, begun, worker.Elapsed));
    }
}

/// <summary>One delivery that was handled: by whom, from when to when.</summary>
internal sealed record Bar(int Worker, TimeSpan Begun, TimeSpan Ended);

/// <summary>What one worker writes down.</summary>
internal sealed class Worker(int number, long start, List<Bar> bars)
{
    public int Number => number;

    public TimeSpan Elapsed => System.Diagnostics.Stopwatch.GetElapsedTime(start);

    public void Note(Bar bar)
    {
        lock (bars) bars.Add(bar);
    }
}

/// <summary>The same uneven work for every run: most notices are quick, a few take twenty times as long.</summary>
internal static class Workload
{
    private static readonly string[] Piers = ["Longsand", "Tern Point", "Old Light", "Saltmarsh", "Gull Rock",
        "Northhaven"];

    public static IReadOnlyList<NoticeWanted> Make(int count, int seed)
    {
        var random = new Random(seed);
        return [.. Enumerable.Range(0, count).Select(i => new NoticeWanted(
            $"{6 + (i % 16):00}{random.Next(60):00}-{Piers[random.Next(Piers.Length)]}",
            (int)Math.Clamp(-110 * Math.Log(1 - random.NextDouble()), 20, 600)))];
    }
}
