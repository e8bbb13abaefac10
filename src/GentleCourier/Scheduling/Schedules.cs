using System.Globalization;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Scheduling;

/// <summary>What changes a schedule, as new rows of it and events that leave with them. Pure computation.</summary>
internal static class Schedules
{
    /// <summary>It fires next after a time, by its rule.</summary>
    public static ScheduleRow WithNext(ScheduleRow row, ScheduleRule rule, DateTimeOffset now, double random) =>
        WithNext(row, rule, rule.After(now), random);

    /// <summary>What is due fires.</summary>
    public static (ScheduleRow Row, List<EncodedEvent> Events, Firings Firings) Fire(
        ScheduleRow row, DateTimeOffset now, double random)
    {
        var rule = ScheduleRule.Parse(row.Rule);
        var firings = rule.At(row.Next!.Value, now);
        var fired = firings.Times.Count > 0 ? firings.Times[^1] : row.Fired;
        return (WithNext(row with { Fired = fired }, rule, firings.Next, random),
            [.. firings.Times.Select(time => EventOf(row, IdOf(row.Name, time), time))], firings);
    }

    /// <summary>It fires now, besides.</summary>
    public static EncodedEvent FireByHand(ScheduleRow row, DateTimeOffset now) =>
        EventOf(row, $"{row.Name}@{now.UtcDateTime:yyyy-MM-dd'T'HH:mm:ss.fff'Z'} by hand", now);

    /// <summary>It rests.</summary>
    public static ScheduleRow Pause(ScheduleRow row, DateTimeOffset now) =>
        row with { Paused = row.Paused ?? now, Due = null };

    /// <summary>It goes on: what would have fired meanwhile is left out.</summary>
    public static ScheduleRow Resume(ScheduleRow row, DateTimeOffset now, double random) => row.Paused is null ? row
        : WithNext(row with { Paused = null }, ScheduleRule.Parse(row.Rule), now, random);

    /// <summary>Another rule by hand, or again the one that was declared.</summary>
    public static ScheduleRow Change(ScheduleRow row, ScheduleRule rule, DateTimeOffset now, double random)
    {
        var json = rule.ToJson();
        var changed = row with { Rule = json, Changed = json == row.DeclaredRule ? null : now };
        return WithNext(changed, rule, now, random);
    }

    private static ScheduleRow WithNext(ScheduleRow row, ScheduleRule rule, DateTimeOffset? next, double random) =>
        row with { Next = next, Due = next is { } at && row.Paused is null ? rule.Jittered(at, random) : null };

    /// <summary>An event's id is the schedule and the firing's time, so that a copy is one.</summary>
    private static string IdOf(string name, DateTimeOffset time) => string.Create(
        CultureInfo.InvariantCulture, $"{name}@{time.UtcDateTime:yyyy-MM-dd'T'HH:mm:ss'Z'}");

    private static EncodedEvent EventOf(ScheduleRow row, string id, DateTimeOffset time)
    {
        var json = EventJson.With(row.Template.Span, id, time);
        return new EncodedEvent(id, row.Type, EventJson.Read(json).PartitionKey, json);
    }
}
