namespace GentleCourier.Cli;

/// <summary>
/// Where on an axis of time labels belong: at round local times, also on a day whose clock is set. Pure.
/// </summary>
internal static class LocalTime
{
    private static readonly TimeSpan[] Steps =
    [
        .. new[] { 1, 2, 5, 10, 15, 30 }.Select(s => TimeSpan.FromSeconds(s)),
        .. new[] { 1, 2, 5, 10, 15, 30 }.Select(m => TimeSpan.FromMinutes(m)),
        .. new[] { 1, 2, 3, 6, 12 }.Select(h => TimeSpan.FromHours(h)),
        .. new[] { 1, 2, 7, 14, 28 }.Select(d => TimeSpan.FromDays(d)),
    ];

    /// <summary>The moments, and what to write there: the date too where it is another day than before.</summary>
    public static IReadOnlyList<(DateTimeOffset At, string Label)> Ticks(
        DateTimeOffset from, DateTimeOffset to, int most, TimeZoneInfo zone)
    {
        var step = Array.Find(Steps, s => (to - from) / s <= most);
        if (step == default) step = Steps[^1];
        var ticks = new List<(DateTimeOffset, string)>();
        var day = default(DateTime);
        // By the zone's clock: it may stand for two moments an hour apart, or for none.
        var local = TimeZoneInfo.ConvertTime(from, zone).DateTime;
        for (local = local.Date + (step * Math.Floor(local.TimeOfDay / step)); ; local += step)
        {
            if (zone.IsInvalidTime(local)) continue;
            var offsets = zone.IsAmbiguousTime(local) ? zone.GetAmbiguousTimeOffsets(local)
                : [zone.GetUtcOffset(local)];
            foreach (var at in offsets.Select(o => new DateTimeOffset(local, o)).Order())
            {
                if (at > to) return ticks;
                if (at < from) continue;
                var time = step >= TimeSpan.FromDays(1) ? ""
                    : local.ToString(step.TotalMinutes < 1 ? "HH:mm:ss" : "HH:mm");
                ticks.Add((at, local.Date == day ? time : $"{time}\n{local:yyyy-MM-dd}".Trim('\n')));
                day = local.Date;
            }
        }
    }
}
