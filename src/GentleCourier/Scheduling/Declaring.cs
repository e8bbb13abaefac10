using GentleCourier.Engines;

namespace GentleCourier.Scheduling;

/// <summary>
/// What becomes of a schedule that a process declares, by what is kept of it and who else declares it. Pure
/// computation.
/// </summary>
internal static class Declaring
{
    /// <summary>A declaration that was not seen for so long is nobody's any more.</summary>
    public static readonly TimeSpan Alive = TimeSpan.FromSeconds(90);

    /// <summary>
    /// Whether a declaration replaces the last one: where it is new, or where nobody makes the last one any more. While
    /// two versions run, the older one's is known, and does not come back when one of its processes starts again; where
    /// the newer version is taken away for good, it does.
    /// </summary>
    public static bool TakesOver(ScheduleRow mine, ScheduleRow? kept, IEnumerable<SeenDeclaration> seen)
    {
        if (kept is null) return true;
        if (kept.Declaration == mine.Declaration) return false;
        var ofIt = seen.Where(s => s.Name == mine.Name).ToList();
        return !ofIt.Exists(s => s.Declaration == mine.Declaration)
            || !ofIt.Exists(s => s.Declaration == kept.Declaration && s.Age < Alive);
    }

    /// <summary>
    /// The row that a declaration leads to, and what leaves with it. A change by hand ends with it; a pause does not,
    /// and what is to fire next stays where the times are the same as before. Where they are others, what the old ones
    /// have come to leaves at once.
    /// </summary>
    public static (ScheduleRow Row, IReadOnlyList<EncodedEvent> Events) Row(
        ScheduleRow mine, ScheduleRow? kept, DateTimeOffset now, double random)
    {
        var rule = ScheduleRule.Parse(mine.Rule);
        if (kept is null) return (Schedules.WithNext(mine, rule, now, random), []);
        var isSame = HasTimesOf(rule, kept.Rule);
        var (fired, events) = isSame ? (kept, []) : Schedules.FireBefore(kept, kept.Next, now);
        var row = fired with
        {
            Type = mine.Type, Template = mine.Template, Rule = mine.Rule, DeclaredRule = mine.Rule,
            Declaration = mine.Declaration, Changed = null,
        };
        return (isSame ? row : Schedules.WithNext(row, rule, now, random), events);
    }

    private static bool HasTimesOf(ScheduleRule rule, string kept)
    {
        try
        {
            var old = ScheduleRule.Parse(kept);
            return (rule.Cron, rule.TimeZone, rule.Every) == (old.Cron, old.TimeZone, old.Every);
        }
        catch (CourierException)
        {
            // Whatever it was, it is replaced.
            return false;
        }
    }
}
