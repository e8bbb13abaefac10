using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Scheduling;

internal sealed class ScheduleBook(IStorePort store) : ISchedules
{
    private const int Ahead = 5, MostTries = 100;

    public async Task<IReadOnlyList<EventSchedule>> ListAsync(CancellationToken cancellationToken = default)
    {
        var kept = await store.Schedules.ReadAsync(dueOnly: false, null, cancellationToken).ConfigureAwait(false);
        var seen = await store.Schedules.ReadDeclarationsAsync(cancellationToken).ConfigureAwait(false);
        return [.. kept.Rows.Select(row => Read(row, kept.Now, seen))];
    }

    public Task PauseAsync(
        string name, DbTransaction? transaction = null, CancellationToken cancellationToken = default) =>
        SaveAsync(name, Schedules.Pause, transaction, cancellationToken);

    public Task ResumeAsync(
        string name, DbTransaction? transaction = null, CancellationToken cancellationToken = default) => SaveAsync(
        name, (row, now) => (Schedules.Resume(row, now, Random.Shared.NextDouble()), []), transaction,
        cancellationToken);

    public async Task<string> FireAsync(
        string name, DbTransaction? transaction = null, CancellationToken cancellationToken = default) =>
        (await SaveAsync(name, (row, now) => (row, [Schedules.FireByHand(row, now)]), transaction, cancellationToken)
            .ConfigureAwait(false))[0].Id;

    public Task ChangeAsync(
        string name, Action<ScheduleOptions> change, DbTransaction? transaction = null,
        CancellationToken cancellationToken = default)
    {
        ArgumentNullException.ThrowIfNull(change);
        return SaveAsync(
            name, (row, now) =>
            {
                var options = ScheduleOptions.Of(ScheduleRule.Parse(row.Rule));
                change(options);
                var rule = options.Rule;
                if (rule.Problems().FirstOrDefault() is { } problem)
                    throw new CourierException($"the schedule '{name}' is left as it is: {problem}");
                return Schedules.Change(row, rule, now, Random.Shared.NextDouble());
            },
            transaction, cancellationToken);
    }

    public Task RestoreAsync(
        string name, DbTransaction? transaction = null, CancellationToken cancellationToken = default) => SaveAsync(
        name,
        (row, now) => row.Changed is null ? (row, []) : Schedules.Change(
            row, ScheduleRule.Parse(row.DeclaredRule), now, Random.Shared.NextDouble()),
        transaction, cancellationToken);

    public async Task RemoveAsync(
        string name, DbTransaction? transaction = null, CancellationToken cancellationToken = default)
    {
        var seen = await store.Schedules.ReadDeclarationsAsync(cancellationToken).ConfigureAwait(false);
        if (AgeOf(name, seen) is { } age && age < Declaring.Alive)
            throw new CourierException(
                $"the schedule '{name}' is declared by a process that was there {age.TotalSeconds:0} s ago, and would "
                + "come back; pause it, or take it out of what is deployed and try again "
                + $"{Declaring.Alive.TotalSeconds:0} s after");
        for (var tries = 0; tries < MostTries; tries++)
        {
            var (row, _) = await FindAsync(name, transaction, cancellationToken).ConfigureAwait(false);
            if (await store.Schedules.RemoveAsync(row, transaction, cancellationToken).ConfigureAwait(false)) return;
        }
        throw Busy(name);
    }

    private async Task<IReadOnlyList<EncodedEvent>> SaveAsync(
        string name, Func<ScheduleRow, DateTimeOffset, (ScheduleRow Row, IReadOnlyList<EncodedEvent> Events)> change,
        DbTransaction? transaction, CancellationToken cancellationToken)
    {
        for (var tries = 0; tries < MostTries; tries++)
        {
            var (row, now) = await FindAsync(name, transaction, cancellationToken).ConfigureAwait(false);
            var (changed, events) = change(row, now);
            if (await store.Schedules.SaveAsync(changed, events, transaction, cancellationToken).ConfigureAwait(false))
                return events;
        }
        throw Busy(name);
    }

    private async Task<(ScheduleRow Row, DateTimeOffset Now)> FindAsync(
        string name, DbTransaction? transaction, CancellationToken cancellationToken)
    {
        var kept = await store.Schedules.ReadAsync(dueOnly: false, transaction, cancellationToken)
            .ConfigureAwait(false);
        return kept.Rows.FirstOrDefault(r => r.Name == name) is { } found ? (found, kept.Now)
            : throw new CourierException($"there is no schedule '{name}' in {store.DisplayName}; "
                + (kept.Rows.Count == 0 ? "there is none"
                    : $"there is {string.Join(", ", kept.Rows.Select(r => r.Name))}"));
    }

    private CourierException Busy(string name) => new(
        $"the schedule '{name}' in {store.DisplayName} was changed by somebody else each of {MostTries} times; try "
        + "again");

    private static EventSchedule Read(ScheduleRow row, DateTimeOffset now, IReadOnlyList<SeenDeclaration> seen)
    {
        var (options, problem) = OptionsOf(row.Rule);
        IReadOnlyList<DateTimeOffset> firings = [];
        if (problem is null) (firings, problem) = FiringsOf(row, options.Rule, now);
        return new EventSchedule(row.Name, row.Type, options, firings)
        {
            Problem = problem,
            Due = row.Due,
            LastFired = row.Fired,
            PausedSince = row.Paused,
            ChangedSince = row.Changed,
            Declared = OptionsOf(row.DeclaredRule).Options,
            DeclaredAge = AgeOf(row.Name, seen),
            Template = EventJson.Read(row.Template),
        };
    }

    private static (ScheduleOptions Options, string? Problem) OptionsOf(string rule)
    {
        try
        {
            return (ScheduleOptions.Of(ScheduleRule.Parse(rule)), null);
        }
        catch (CourierException e)
        {
            return (new ScheduleOptions(), e.Message);
        }
    }

    private static (IReadOnlyList<DateTimeOffset> Firings, string? Problem) FiringsOf(
        ScheduleRow row, ScheduleRule rule, DateTimeOffset now)
    {
        try
        {
            var first = row.Paused is null ? row.Next : rule.After(now);
            return (first is not { } next ? [] : [.. rule.Following(next.AddTicks(-1), Ahead)], null);
        }
        catch (CourierException e)
        {
            return ([], e.Message);
        }
    }

    private static TimeSpan? AgeOf(string name, IReadOnlyList<SeenDeclaration> seen) =>
        seen.Where(s => s.Name == name).Min(s => (TimeSpan?)s.Age);
}
