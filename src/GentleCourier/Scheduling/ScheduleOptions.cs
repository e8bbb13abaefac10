using GentleCourier.Scheduling;

namespace GentleCourier;

/// <summary>What becomes of firings for whose time everything was down, by more than a minute.</summary>
public enum Missed
{
    /// <summary>They are left out.</summary>
    Skip,

    /// <summary>The last of them fires, late; the others are left out.</summary>
    Once,

    /// <summary>Each fires, late: of many the last <see cref="ScheduleOptions.MaxMissed"/>.</summary>
    Each,
}

/// <summary>When a recurring event fires. Settings: <c>Courier:Schedules:{name}:…</c>.</summary>
public sealed class ScheduleOptions
{
    private const string Utc = "UTC";

    /// <summary>
    /// A cron expression of five fields (minute, hour, day, month, weekday), or six that begin with the second. Where
    /// clocks are set forward, what falls into the hour that is left out fires when it ends; where they are set back,
    /// a fixed time fires once, the first time, and what recurs within the hour (<c>*</c>, <c>*/10</c>) goes on firing.
    /// </summary>
    public string? Cron { get; set; }

    /// <summary>The time zone of <see cref="Cron"/>, by its IANA name. Default: UTC.</summary>
    public string TimeZone { get; set; } = Utc;

    /// <summary>
    /// Instead of <see cref="Cron"/>: fires so often, 1 second to 1 day, at whole multiples since 1970-01-01 00:00 UTC,
    /// so that every 10 minutes is at 10, 20 and 30 minutes past.
    /// </summary>
    public TimeSpan? Every { get; set; }

    /// <summary>What becomes of firings that were missed. Default: the last one fires, late.</summary>
    public Missed Missed { get; set; } = Missed.Once;

    /// <summary>With <see cref="Missed.Each"/>: how many at the most, 1 to 1,000. Default: 100.</summary>
    public int MaxMissed { get; set; } = 100;

    /// <summary>
    /// Each firing leaves later by a random time below this, and before the next one: 0 to 1 day. It spreads what many
    /// schedules do at the full hour; the event's id and time stay those of the firing.
    /// </summary>
    public TimeSpan Jitter { get; set; }

    /// <summary>What is wrong with them, also with one that has no effect beside the others.</summary>
    internal IEnumerable<string> Problems()
    {
        foreach (var problem in Rule.Problems()) yield return problem;
        if (Cron is null && TimeZone != Utc)
            yield return $"TimeZone '{TimeZone}' is for Cron; Every counts from 1970 in UTC: leave one of them out";
        if (Missed != Missed.Each && MaxMissed is < 1 or > ScheduleRule.MostOfAll)
            yield return $"MaxMissed must be 1 to 1,000, but is {MaxMissed}";
    }

    internal ScheduleRule Rule => new(
        Cron, Cron is null ? null : TimeZone, Every, Missed, Missed == Missed.Each ? MaxMissed : null,
        Jitter == TimeSpan.Zero ? null : Jitter);

    internal static ScheduleOptions Of(ScheduleRule rule) => new()
    {
        Cron = rule.Cron,
        TimeZone = rule.TimeZone ?? Utc,
        Every = rule.Every,
        Missed = rule.Missed,
        MaxMissed = rule.MaxMissed ?? 100,
        Jitter = rule.Jitter ?? TimeSpan.Zero,
    };
}
