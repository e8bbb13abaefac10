using System.Text.Json;
using System.Text.Json.Serialization;
using Cronos;

namespace GentleCourier.Scheduling;

/// <summary>When a schedule fires. Pure computation.</summary>
internal sealed record ScheduleRule(
    string? Cron, string? TimeZone, TimeSpan? Every, Missed Missed, int? MaxMissed, TimeSpan? Jitter)
{
    /// <summary>A firing that is so late was missed.</summary>
    public static readonly TimeSpan Tolerance = TimeSpan.FromMinutes(1);

    /// <summary>More firings that were missed are not caught up with.</summary>
    public const int MostOfAll = 1_000;

    private static readonly TimeSpan Shortest = TimeSpan.FromSeconds(1), Longest = TimeSpan.FromDays(1);

    private (CronExpression Expression, TimeZoneInfo Zone)? parsed;

    /// <summary>What is wrong with it, each with the name of the setting.</summary>
    public IEnumerable<string> Problems()
    {
        if (Cron is null == Every is null)
        {
            yield return "Cron or Every must be set, and only one of them";
        }
        else if (Every is { } every)
        {
            if (every < Shortest || every > Longest || every.Ticks % TimeSpan.TicksPerSecond != 0)
                yield return $"Every must be whole seconds, 1 second to 1 day, but is {every}; beyond that say Cron";
        }
        else if (ProblemOfCron() is { } problem)
        {
            yield return problem;
        }
        if (MaxMissed is < 1 or > MostOfAll) yield return $"MaxMissed must be 1 to 1,000, but is {MaxMissed}";
        if (Jitter < TimeSpan.Zero || Jitter > Longest) yield return $"Jitter must be 0 to 1 day, but is {Jitter}";
    }

    /// <summary>The first time after another; null: none.</summary>
    /// <exception cref="CourierException">This host does not know the time zone, or the expression.</exception>
    public DateTimeOffset? After(DateTimeOffset time)
    {
        if (Every is { } every)
        {
            var ticks = time.UtcTicks - DateTimeOffset.UnixEpoch.Ticks;
            return DateTimeOffset.UnixEpoch.AddTicks((Math.DivRem(ticks, every.Ticks).Quotient + 1) * every.Ticks);
        }
        if (parsed is null && ProblemOfCron() is { } problem) throw new CourierException(problem);
        var (expression, zone) = parsed!.Value;
        // In its own zone, so that people read it as they have meant it.
        return expression.GetNextOccurrence(time, zone);
    }

    /// <summary>The next firings after a time.</summary>
    public IEnumerable<DateTimeOffset> Following(DateTimeOffset time, int count)
    {
        for (var next = After(time); next is { } at && count > 0; next = After(at), count--) yield return at;
    }

    /// <summary>What fires now.</summary>
    /// <param name="next">The firing that is due.</param>
    /// <param name="now">The time, not before it.</param>
    public Firings At(DateTimeOffset next, DateTimeOffset now)
    {
        // What is in time fires in any case; before that come those that were missed.
        var border = now - Tolerance;
        var fires = new List<DateTimeOffset>();
        var isMissed = next < border;
        if (isMissed && Missed != Missed.Skip) fires.AddRange(Last(next, border, MaxMissed ?? 1));
        var time = isMissed ? After(border - TimeSpan.FromTicks(1)) : next;
        for (; time <= now; time = After(time.Value)) fires.Add(time.Value);
        return new Firings(fires, time, isMissed);
    }

    /// <summary>A time to leave at, from a firing on and before the one that follows it.</summary>
    /// <param name="firing">The firing.</param>
    /// <param name="random">A number from 0 to under 1.</param>
    public DateTimeOffset Jittered(DateTimeOffset firing, double random)
    {
        if (Jitter is not { } jitter) return firing;
        var room = After(firing) - firing;
        return firing + TimeSpan.FromMilliseconds(
            Math.Floor((room < jitter ? room.Value : jitter).TotalMilliseconds * random));
    }

    /// <summary>For people.</summary>
    public override string ToString() => Every is { } every ? $"every {every}" : $"{Cron} {TimeZone}";

    public string ToJson() => JsonSerializer.Serialize(this, RuleJson.Default.ScheduleRule);

    /// <exception cref="CourierException">It is of a newer release, perhaps.</exception>
    public static ScheduleRule Parse(string json)
    {
        try
        {
            return JsonSerializer.Deserialize(json, RuleJson.Default.ScheduleRule)
                ?? throw new CourierException("the rule of the schedule is empty");
        }
        catch (JsonException e)
        {
            throw new CourierException($"the rule of the schedule cannot be read here, {json}: {e.Message}", e);
        }
    }

    /// <summary>
    /// The last firings from one on and before another time. Looked for backwards, over twice as long each time: there
    /// may be millions.
    /// </summary>
    private List<DateTimeOffset> Last(DateTimeOffset from, DateTimeOffset before, int count)
    {
        for (var span = Shortest; ; span *= 2)
        {
            var start = before - span > from ? before - span : from;
            var last = new Queue<DateTimeOffset>();
            for (var time = After(start - TimeSpan.FromTicks(1)); time < before; time = After(time.Value))
            {
                last.Enqueue(time.Value);
                if (last.Count > count) last.Dequeue();
            }
            if (last.Count == count || start == from) return [.. last];
        }
    }

    private string? ProblemOfCron()
    {
        try
        {
            var (expression, zone) = parsed ??= Parse();
            return expression.GetNextOccurrence(DateTimeOffset.UnixEpoch, zone) is null
                ? $"Cron '{Cron}' never fires" : null;
        }
        catch (CronFormatException e)
        {
            return $"Cron '{Cron}' is not a cron expression of five or six fields: {e.Message}";
        }
        catch (Exception e) when (e is TimeZoneNotFoundException or InvalidTimeZoneException)
        {
            return $"TimeZone '{TimeZone}' is not known on this host; it takes the IANA names of the package tzdata, "
                + "such as Europe/Lisbon, or UTC";
        }
    }

    private (CronExpression, TimeZoneInfo) Parse()
    {
        var fields = Cron!.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries).Length;
        return (CronExpression.Parse(Cron, fields == 6 ? CronFormat.IncludeSeconds : CronFormat.Standard),
            TimeZoneInfo.FindSystemTimeZoneById(TimeZone!));
    }
}

/// <summary>What a schedule does when it is due.</summary>
/// <param name="Times">These fire, in order.</param>
/// <param name="Next">The next one; null: none.</param>
/// <param name="HasMissed">Whether everything was down when some were to fire.</param>
internal sealed record Firings(IReadOnlyList<DateTimeOffset> Times, DateTimeOffset? Next, bool HasMissed);

[JsonSourceGenerationOptions(
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, UseStringEnumConverter = true,
    PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase)]
[JsonSerializable(typeof(ScheduleRule))]
internal sealed partial class RuleJson : JsonSerializerContext;
