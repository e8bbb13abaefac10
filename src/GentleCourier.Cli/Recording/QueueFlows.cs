using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>What came to a queue and what its workers can do, by what was recorded. Pure.</summary>
/// <param name="Arrivals">What came; null where too little is recorded.</param>
/// <param name="Worker">What a worker handles that is never idle; null where that cannot be told.</param>
/// <param name="HasQueued">Whether that is from times when events waited; otherwise from how busy workers were.</param>
/// <param name="Workers">How many there were at the last look that saw any; null where that was unknown.</param>
/// <param name="Waiting">What waited then.</param>
/// <param name="Looks">From how many looks.</param>
/// <param name="Last">The last look.</param>
internal sealed record QueueFlows(
    Flow? Arrivals, Flow? Worker, bool HasQueued, int? Workers, long? Waiting, int Looks, DateTimeOffset Last)
{
    // With fewer, what they do is chance.
    private const double LeastBusy = 0.02;

    public static QueueFlows Of(Series queue)
    {
        var arrivals = new List<(double, double)>();
        var (queued, busy) = (new List<(double, double)>(), new List<(double, double)>());
        var before = (Point?)null;
        foreach (var point in queue.Points)
        {
            if (point is { Seconds: > 0, Came: { } came, Handled: { } handled, Last: { } row })
            {
                arrivals.Add((point.Seconds, came * point.Seconds));
                if (row.Workers is > 0 and { } workers)
                {
                    var seconds = point.Seconds * workers;
                    if (row.Ready > 0 && before?.Last?.Ready > 0 && before.Last.Workers == workers)
                        queued.Add((seconds, handled * point.Seconds));
                    if (row.Busy > LeastBusy) busy.Add((seconds * row.Busy.Value, handled * point.Seconds));
                }
            }
            before = point;
        }
        var fromQueued = Flow.Of(queued);
        var last = queue.Points.OfType<Point>().LastOrDefault();
        return new QueueFlows(Flow.Of(arrivals), fromQueued ?? Flow.Of(busy), fromQueued is not null,
            queue.Points.LastOrDefault(p => p?.Last?.Workers > 0)?.Last?.Workers ?? last?.Last?.Workers,
                last?.Last?.Waiting, arrivals.Count, last?.At ?? default);
    }
}
