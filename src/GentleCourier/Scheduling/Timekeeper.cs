using GentleCourier.Engines;
using GentleCourier.Publishing;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Scheduling;

/// <summary>
/// Moves into the outbox what is due: events that were added for later, and those of schedules that fire. The relay
/// that leads does it, beside its work. What is due leaves its place in the transaction that adds it to the outbox: a
/// kill leaves both or neither.
/// </summary>
internal sealed partial class Timekeeper(IStorePort store, Lead lead, TimeProvider clock, ILogger logger)
{
    private const int Step = 500;

    // Events that were added without being told of, by a transaction that took longer than this, are found then.
    private static readonly TimeSpan LooksEvery = LaterDraft.Soon / 2;
    private static readonly TimeSpan Rest = TimeSpan.FromMilliseconds(5);

    // Schedules that cannot be reckoned here, and why: that costs no other anything.
    private readonly Dictionary<string, string> failing = new(StringComparer.Ordinal);

    public async Task TakeTurnAsync(CancellationToken stopping)
    {
        var term = await lead.TakenAsync(stopping).ConfigureAwait(false);
        var step = await StepAsync(term, stopping).ConfigureAwait(false);
        if (step.Moved > 0 || (step.ScheduleIn <= TimeSpan.Zero && failing.Count == 0))
        {
            await Task.Delay(Rest, clock, stopping).ConfigureAwait(false);
            return;
        }
        var wait = Shorter(Shorter(LooksEvery, step.NextIn), failing.Count == 0 ? step.ScheduleIn : null);
        // Timers cut off what is less than a millisecond.
        if (wait > TimeSpan.Zero)
        {
            await store.Later.WaitAsync(TimeSpan.FromMilliseconds(Math.Ceiling(wait.TotalMilliseconds)), stopping)
                .ConfigureAwait(false);
        }
    }

    /// <summary>Moves what is due at this moment.</summary>
    public async Task<DueStep> StepAsync(long term, CancellationToken stopping)
    {
        var step = await store.Later.MoveDueAsync(term, Step, stopping).ConfigureAwait(false);
        if (step.ScheduleIn <= TimeSpan.Zero) await FireAsync(stopping).ConfigureAwait(false);
        else failing.Clear();
        return step;
    }

    private async Task FireAsync(CancellationToken stopping)
    {
        var due = await store.Schedules.ReadAsync(dueOnly: true, stopping).ConfigureAwait(false);
        foreach (var row in due.Rows)
        {
            if (Fire(row, due.Now) is not var (next, events, firings)) continue;
            FaultPoint.Pass(FaultPoint.DueNotFired);
            // Where another was first, it has fired.
            if (!await store.Schedules.SaveAsync(next, events, stopping).ConfigureAwait(false)) continue;
            FaultPoint.Pass(FaultPoint.FiredNotKnown);
            if (firings.HasMissed) LogMissed(logger, row.Name, row.Next, ScheduleRule.Parse(row.Rule).Missed,
                events.Count, next.Next);
            else LogFired(logger, row.Name, row.Next, next.Next);
        }
    }

    private (ScheduleRow Row, List<EncodedEvent> Events, Firings Firings)? Fire(ScheduleRow row, DateTimeOffset now)
    {
        try
        {
            var fired = Schedules.Fire(row, now, Random.Shared.NextDouble());
            failing.Remove(row.Name);
            return fired;
        }
        catch (Exception e) when (e is CourierException or UnreadableEventException)
        {
            var said = Words.Of(e);
            if (failing.GetValueOrDefault(row.Name) != said) LogCannotFire(logger, row.Name, said);
            failing[row.Name] = said;
            return null;
        }
    }

    private static TimeSpan Shorter(TimeSpan one, TimeSpan? other) => other < one ? other.Value : one;

    [LoggerMessage(502, LogLevel.Debug, "Schedule {Name} has fired for {Time}; next at {Next}")]
    private static partial void LogFired(ILogger logger, string name, DateTimeOffset? time, DateTimeOffset? next);

    [LoggerMessage(504, LogLevel.Error, "Schedule {Name} is due and cannot fire here; others go on: {Problem}")]
    private static partial void LogCannotFire(ILogger logger, string name, string problem);

    [LoggerMessage(503, LogLevel.Warning,
        "Schedule {Name}: nothing ran when it was to fire, from {Time} on; as it says '{Missed}', {Count} events leave "
        + "now. Next at {Next}")]
    private static partial void LogMissed(
        ILogger logger, string name, DateTimeOffset? time, Missed missed, int count, DateTimeOffset? next);
}
