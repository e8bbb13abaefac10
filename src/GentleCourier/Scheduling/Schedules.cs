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

    /// <summary>It rests. What is due already leaves with it.</summary>
    public static (ScheduleRow Row, IReadOnlyList<EncodedEvent> Events) Pause(ScheduleRow row, DateTimeOffset now)
    {
        var (fired, events) = FireBefore(row, row.Due, now);
        return (fired with { Paused = row.Paused ?? now, Due = null }, events);
    }

    /// <summary>It goes on: what would have fired meanwhile is left out.</summary>
    public static ScheduleRow Resume(ScheduleRow row, DateTimeOffset now, double random) => row.Paused is null ? row
        : WithNext(row with { Paused = null }, ScheduleRule.Parse(row.Rule), now, random);

    /// <summary>
    /// The clock was set back: it waits for the next time by its rule, and not for what that was by the later clock.
    /// What fires for a time again has the same id.
    /// </summary>
    public static ScheduleRow SetBack(ScheduleRow row, DateTimeOffset now, double random)
    {
        try
        {
            var again = WithNext(row, ScheduleRule.Parse(row.Rule), now, random);
            return again.Next < row.Next ? again : row;
        }
        catch (CourierException)
        {
            return row;
        }
    }

    /// <summary>
    /// Another rule by hand, or again the one that was declared. What the old one has had its time for leaves with it.
    /// </summary>
    public static (ScheduleRow Row, IReadOnlyList<EncodedEvent> Events) Change(
        ScheduleRow row, ScheduleRule rule, DateTimeOffset now, double random)
    {
        var json = rule.ToJson();
        var (fired, events) = FireBefore(row, row.Next, now);
        var changed = fired with { Rule = json, Changed = json == row.DeclaredRule ? null : now };
        return (WithNext(changed, rule, now, random), events);
    }

    /// <summary>
    /// What has come to its time, and has not left yet, fires by the rule that is still in force: whoever writes
    /// another one into its place would lose it. A rule that cannot be reckoned here fires nothing.
    /// </summary>
    /// <param name="row">The schedule.</param>
    /// <param name="time">Its time: of the firing, or when that is due, which jitter may have put off.</param>
    /// <param name="now">The time.</param>
    public static (ScheduleRow Row, IReadOnlyList<EncodedEvent> Events) FireBefore(
        ScheduleRow row, DateTimeOffset? time, DateTimeOffset now)
    {
        if (row.Paused is not null || !(time <= now)) return (row, []);
        try
        {
            var (fired, events, _) = Fire(row, now, 0);
            return (fired, events);
        }
        catch (Exception e) when (e is CourierException or UnreadableEventException)
        {
            return (row, []);
        }
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
