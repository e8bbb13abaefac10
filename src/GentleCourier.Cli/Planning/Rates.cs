using System.Globalization;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>What a forecast goes by.</summary>
/// <param name="Of">What it is of.</param>
/// <param name="Now">When it begins.</param>
/// <param name="Arrivals">What comes.</param>
/// <param name="Worker">What a worker handles.</param>
/// <param name="Workers">How many there are.</param>
/// <param name="Waiting">What waits now.</param>
/// <param name="From">Where that is from.</param>
internal sealed record Rates(
    string Of, DateTimeOffset Now, Flow Arrivals, Flow Worker, int Workers, long Waiting, string From)
{
    /// <summary>What comes, and what can be done, in words.</summary>
    public string Capacity => $"{Plain.Rate(Arrivals.PerSecond)} come a second, {Count(Workers)} can handle "
        + $"{Plain.Rate(Worker.PerSecond * Workers)}";

    public static string Count(int workers) => workers == 1 ? "1 worker" : $"{Plain.Number(workers)} workers";

    /// <summary>The local time of a moment, in seconds from now; with its day where that is not today.</summary>
    public string Clock(double seconds, bool withDay = false)
    {
        var (now, time) = (Plain.InZone(Now), Plain.InZone(Now.AddSeconds(seconds)));
        return time.ToString(withDay || time.Date != now.Date ? "yyyy-MM-dd HH:mm:ss" : "HH:mm:ss",
            CultureInfo.InvariantCulture);
    }
}
