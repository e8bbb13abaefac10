using GentleCourier.Engines;
using GentleCourier.Events;
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

    // Schedules that cannot be reckoned here, and why. They are left out of what is due next, so that they cost no
    // other anything, and tried again now and then: the zone's data may have come.
    private readonly Dictionary<string, string> failing = new(StringComparer.Ordinal);
    private long triedAt;
    private bool isLate, isInDoubt;

    /// <summary>Whether it rests a little after each step, so that more goes together.</summary>
    public bool Rests { get; init; } = true;

    public async Task RunOnceAsync(CancellationToken stopping)
    {
        var term = await lead.TakenAsync(stopping).ConfigureAwait(false);
        var began = clock.GetTimestamp();
        var step = await StepAsync(term, stopping).ConfigureAwait(false);
        if (step.Moved > 0 || step.ScheduleIn <= TimeSpan.Zero)
        {
            if (Rests) await Task.Delay(Rest, stopping).ConfigureAwait(false);
            return;
        }
        var wait = Shorter(Shorter(LooksEvery, step.NextIn), step.ScheduleIn) - clock.GetElapsedTime(began);
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
        var step = await store.Later.MoveDueAsync(term, Step, [.. failing.Keys], stopping).ConfigureAwait(false);
        if (step.Clock is { } news) Tell(news);
        // Said once, and not for each step of a night's worth.
        if (step.Moved > 0 && step.Late > ScheduleRule.Tolerance && !isLate) LogLate(logger, step.Late);
        if (step.Moved > 0) isLate = step.Late > ScheduleRule.Tolerance;
        if (step.ScheduleIn <= TimeSpan.Zero
            || (failing.Count > 0 && clock.GetElapsedTime(triedAt) >= LooksEvery))
            await FireAsync(stopping).ConfigureAwait(false);
        return step;
    }

    private void Tell(ClockNews news)
    {
        if (news.SetBy != TimeSpan.Zero)
            LogClockSet(
                logger, lead.Store, news.IsByHand ? "by hand" : "as most of its relays' clocks were", news.SetBy);
        if (news.Apart is { } apart) LogClockDoubted(logger, lead.Store, apart);
        else if (isInDoubt) LogClockAgreed(logger, lead.Store);
        isInDoubt = news.Apart is not null;
    }

    private async Task FireAsync(CancellationToken stopping)
    {
        triedAt = clock.GetTimestamp();
        var due = await store.Schedules.ReadAsync(dueOnly: true, null, stopping).ConfigureAwait(false);
        foreach (var gone in failing.Keys.Except(due.Rows.Select(row => row.Name)).ToList()) failing.Remove(gone);
        foreach (var row in due.Rows)
        {
            if (Fire(row, due.Now) is not var (next, events, firings)) continue;
            FaultPoint.Pass(FaultPoint.DueNotFired);
            // Where another was first, it has fired.
            if (!await store.Schedules.SaveAsync(next, events, null, stopping).ConfigureAwait(false)) continue;
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

    [LoggerMessage(506, LogLevel.Warning,
        "The clock of {Store} was set, {How}, by {By}: schedules, and events for a time, go by it")]
    private static partial void LogClockSet(ILogger logger, string store, string how, TimeSpan by);

    [LoggerMessage(507, LogLevel.Warning,
        "The clocks of the relays of {Store} differ, one by {Apart} from what was agreed, and none has a majority: "
        + "schedules, and events for a time, wait. Set the one that is wrong right, or say "
        + "`courier outbox set-clock`; everything else goes on")]
    private static partial void LogClockDoubted(ILogger logger, string store, TimeSpan apart);

    [LoggerMessage(508, LogLevel.Information,
        "The clocks of the relays of {Store} agree again: schedules, and events for a time, go on")]
    private static partial void LogClockAgreed(ILogger logger, string store);

    [LoggerMessage(505, LogLevel.Warning,
        "Events for later leave late: the first of them had been due for {Late}. No relay ran meanwhile, or a clock "
        + "was set")]
    private static partial void LogLate(ILogger logger, TimeSpan late);

    [LoggerMessage(504, LogLevel.Error, "Schedule {Name} is due and cannot fire here; others go on: {Problem}")]
    private static partial void LogCannotFire(ILogger logger, string name, string problem);

    [LoggerMessage(503, LogLevel.Warning,
        "Schedule {Name}: nothing ran when it was to fire, from {Time} on; as it says '{Missed}', {Count} events leave "
        + "now. Next at {Next}")]
    private static partial void LogMissed(
        ILogger logger, string name, DateTimeOffset? time, Missed missed, int count, DateTimeOffset? next);
}
