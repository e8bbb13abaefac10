using System.Diagnostics;
using GentleCourier.Engines;

namespace GentleCourier.Testing;

/// <summary>
/// How a trial goes on: it waits until nothing is left to do at this moment, and moves the clock to what is due next.
/// One call at a time.
/// </summary>
internal sealed class Course(
    TrialClock clock, Sight sight, TrialOptions options, Func<IReadOnlyList<TrialService>> services,
    Func<CancellationToken, Task<IBroker>> broker)
{
    // While something is in hand, renewals of its lease have to come in between.
    private static readonly TimeSpan LongestStep = Joining.Lease / 6;
    private static readonly TimeSpan ShortestLook = TimeSpan.FromMilliseconds(3),
        HandlersLook = TimeSpan.FromMilliseconds(20), LongestLook = TimeSpan.FromMilliseconds(100);

    // Where many trials share the cores, looking must not take them from what is looked at.
    private const int LookShare = 4;

    private readonly ApplicationTime application = new(clock, sight);
    private readonly Dictionary<string, int> tries = new(StringComparer.Ordinal);
    private int deliveries, isRunning;
    private TimeSpan lookTook;
    private long happened, ticking;

    /// <summary>Until nothing is left to do; it passes all but schedules.</summary>
    public Task RunUntilIdleAsync(CancellationToken cancellationToken) => RunAsync(null, cancellationToken);

    /// <summary>Up to a time.</summary>
    public Task AdvanceToAsync(DateTimeOffset time, CancellationToken cancellationToken) =>
        RunAsync(time, cancellationToken);

    private async Task RunAsync(DateTimeOffset? target, CancellationToken cancellationToken)
    {
        if (Interlocked.Exchange(ref isRunning, 1) != 0)
            throw new InvalidOperationException(
                "the trial is being run already: await what RunUntilIdleAsync or AdvanceToAsync has returned first");
        try
        {
            deliveries = sight.Deliveries;
            tries.Clear();
            (happened, ticking) = (sight.Version, Stopwatch.GetTimestamp());
            await application.BeginAsync(services(), cancellationToken).ConfigureAwait(false);
            while (await StepAsync(target, cancellationToken).ConfigureAwait(false)) continue;
        }
        finally
        {
            Volatile.Write(ref isRunning, 0);
        }
    }

    /// <summary>Whether there is more to do.</summary>
    private async Task<bool> StepAsync(DateTimeOffset? target, CancellationToken cancellationToken)
    {
        var reading = await QuietAsync(cancellationToken).ConfigureAwait(false);
        if (NextStop(reading, target) is not { } stop) return false;
        var isTimers = clock.Next(clock.Application) <= stop;
        if (sight.Version != happened) (happened, ticking) = (sight.Version, Stopwatch.GetTimestamp());
        if (isTimers && Stopwatch.GetElapsedTime(ticking) > options.Limit) throw OnlyTicks(reading);
        // Where somebody else has published meanwhile, and it is being handled, that comes first.
        var set = clock.Set;
        if (clock.MoveTo(stop) && isTimers)
            await application.LetGoOnAsync(set + 1, cancellationToken).ConfigureAwait(false);
        return true;
    }

    private DateTimeOffset? NextStop(Reading reading, DateTimeOffset? target)
    {
        var (now, next, schedule) = (clock.Now, reading.Next?.At, reading.NextSchedule?.At);
        if (target is null && (next is null || schedule <= next)) return null;
        if (target <= now) return null;
        var stop = Earliest(next, target is null ? null : schedule, target, clock.Next(clock.Application));
        return stop > now ? stop : now;
    }

    private static DateTimeOffset? Earliest(params ReadOnlySpan<DateTimeOffset?> times)
    {
        DateTimeOffset? first = null;
        foreach (var time in times)
            if (first is null || time < first) first = time ?? first;
        return first;
    }

    /// <summary>
    /// Waits until nothing is left to do at this moment. What waits for the clock all the same, such as a batch that is
    /// gathered or a limit on the rate, has it moved.
    /// </summary>
    /// <exception cref="TrialException">It does not come to that within the limit.</exception>
    private async Task<Reading> QuietAsync(CancellationToken cancellationToken)
    {
        var stillness = new Stillness(options.Limit);
        while (true)
        {
            cancellationToken.ThrowIfCancellationRequested();
            var changed = sight.Changed;
            var (version, running) = (sight.Version, sight.Running);
            Reading? reading = null;
            // What a handler makes of it is seen when it has returned.
            if (running.Count == 0)
            {
                await RepeatAsync(cancellationToken).ConfigureAwait(false);
                reading = await ReadAsync(cancellationToken).ConfigureAwait(false);
                if (reading.Busy.Count == 0 && version == sight.Version && IsTold(stillness))
                    return reading.Held.Count == 0 ? reading : throw Held(reading);
                if (sight.Deliveries - deliveries > options.MostDeliveries) throw Endless(reading);
            }
            stillness.Look(version);
            if (stillness.IsOver) throw Stands(reading, running);
            if (reading is not null && stillness.IsStill(reading.WaitsForTime, lookTook)
                && NextTimer(reading) is { } timer)
            {
                clock.MoveTo(timer - clock.Now < LongestStep ? timer : clock.Now + LongestStep);
                stillness.Moved();
            }
            await WaitAsync(changed, running.Count > 0 ? HandlersLook : NextLook, cancellationToken)
                .ConfigureAwait(false);
        }
    }

    /// <summary>Waits until it is worth looking again: something is done, or a little time is over.</summary>
    private async Task WaitAsync(Task changed, TimeSpan time, CancellationToken cancellationToken)
    {
        var limit = Task.Delay(time, cancellationToken);
        do
        {
            await Task.WhenAny(changed, limit).ConfigureAwait(false);
            changed = sight.Changed;
        }
        while (!limit.IsCompleted && sight.IsUnderWay);
    }

    /// <summary>For what something may wait that could be done now.</summary>
    private DateTimeOffset? NextTimer(Reading reading) =>
        Earliest(clock.Next(clock.Library), reading.WaitsForTime ? reading.Next?.At : null) ?? clock.Next(clock.Aside);

    /// <summary>The broker learns what has become of a delivery a little before the trial does.</summary>
    private bool IsTold(Stillness stillness)
    {
        if (sight.HasUnsettled && !stillness.IsLong) return false;
        sight.ForgetUnsettled();
        return true;
    }

    private TimeSpan NextLook => TimeSpan.FromTicks(
        Math.Clamp(lookTook.Ticks * LookShare, ShortestLook.Ticks, LongestLook.Ticks));

    private async Task<Reading> ReadAsync(CancellationToken cancellationToken)
    {
        var (before, began) = (services().Count, Stopwatch.GetTimestamp());
        try
        {
            var reading = await ReadOnceAsync(cancellationToken).ConfigureAwait(false);
            lookTook = Stopwatch.GetElapsedTime(began);
            return reading;
        }
        catch (ObjectDisposedException) when (services().Count < before)
        {
            // A program has ended by itself in the middle of it.
            return await ReadOnceAsync(cancellationToken).ConfigureAwait(false);
        }
    }

    private async Task<Reading> ReadOnceAsync(CancellationToken cancellationToken) => await Reading.TakeAsync(
        services(), await broker(cancellationToken).ConfigureAwait(false), clock.Now, tries,
        cancellationToken).ConfigureAwait(false);

    /// <summary>What is to reach its queues a second time does so.</summary>
    private async Task RepeatAsync(CancellationToken cancellationToken)
    {
        if (sight.TakeCopies() is not { Count: > 0 } copies) return;
        var to = await broker(cancellationToken).ConfigureAwait(false);
        await to.PublishAsync(copies, cancellationToken).ConfigureAwait(false);
    }

    private TrialException Held(Reading reading) => sight.Problem(
        $"""
        the trial cannot come to an end: what waits in an outbox cannot go.
        {Sight.Lines(reading.Held)}
        Start the service that receives it in this trial; or, where that is no part of it, say
        trial.ReceivedElsewhereAsync
        """);

    private TrialException OnlyTicks(Reading reading) => sight.Problem(
        $"""
        for {TrialText.Of(options.Limit)} nothing has happened but timers of the services' own, and it is
        {TrialText.Of(clock.Now)}. What the clock is moved for:
          {reading.Next?.What ?? reading.NextSchedule?.What ?? "the time that it is to show"}
        Each of these timers is a stop on the way: advance less at once, or raise TrialOptions.Limit
        """);

    private TrialException Endless(Reading reading) => sight.Problem(
        $"""
        the trial does not come to an end: there were more than {options.MostDeliveries} deliveries, and there is
        still more to do.
        {Sight.Lines(reading.Busy.Count > 0 ? reading.Busy : [reading.Next?.What ?? "nothing at this moment"])}
        Something publishes itself anew for ever, or comes again and again; or TrialOptions.MostDeliveries is too low
        """);

    private TrialException Stands(Reading? reading, IReadOnlyList<RunningHandler> running) => sight.Problem(
        running.Count > 0
            ? $"""
            for {TrialText.Of(options.Limit)} nothing has happened, and a handler does not return:
            {Sight.Lines(running)}
            The trial's clock stands while a handler runs. One that waits for a time had better throw a RetryException;
            one that really takes so long needs a higher TrialOptions.Limit
            """
            : $"""
            for {TrialText.Of(options.Limit)} nothing has happened, and there is still something to do:
            {Sight.Lines(reading?.Busy ?? [])}
            """);
}
