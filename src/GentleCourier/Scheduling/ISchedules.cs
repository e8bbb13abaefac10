using System.Data.Common;

namespace GentleCourier;

/// <summary>
/// The schedules of recurring events that a store keeps: to be looked at, and changed without a deployment. What is
/// changed by hand stands until the declaration itself is another one. What is changed in a transaction of the caller's
/// holds with its commit; inside a transaction on a SQLite file, only that is possible. Thread-safe.
/// </summary>
/// <remarks>
/// After an error that may have come after a commit, everything may be repeated but <see cref="FireAsync"/>, which
/// fires once more then.
/// </remarks>
public interface ISchedules
{
    /// <summary>All schedules, by name.</summary>
    /// <exception cref="CourierException">The database cannot be used.</exception>
    Task<IReadOnlyList<EventSchedule>> ListAsync(CancellationToken cancellationToken = default);

    /// <summary>It fires no more, until it is resumed. What is due already leaves with the pause.</summary>
    /// <param name="name">Its name.</param>
    /// <param name="transaction">The caller's, on the store's database; null: one of its own.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <exception cref="CourierException">There is no such schedule, or the database cannot be used.</exception>
    Task PauseAsync(
        string name, DbTransaction? transaction = null, CancellationToken cancellationToken = default);

    /// <summary>It fires again; what would have fired meanwhile is left out.</summary>
    /// <exception cref="CourierException">There is no such schedule, or the database cannot be used.</exception>
    Task ResumeAsync(
        string name, DbTransaction? transaction = null, CancellationToken cancellationToken = default);

    /// <summary>It fires now, besides; also while it is paused. What it does next stays as it is.</summary>
    /// <returns>The event's id.</returns>
    /// <exception cref="CourierException">There is no such schedule, or the database cannot be used.</exception>
    Task<string> FireAsync(
        string name, DbTransaction? transaction = null, CancellationToken cancellationToken = default);

    /// <summary>
    /// Changes when it fires. What has come to its time by the old rule, and has not left yet, leaves with the change.
    /// </summary>
    /// <param name="name">Its name.</param>
    /// <param name="change">Is given the options as they are. It may be called more than once.</param>
    /// <param name="transaction">The caller's, on the store's database; null: one of its own.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <exception cref="CourierException">
    /// There is no such schedule, an option is not valid, or the database cannot be used.
    /// </exception>
    Task ChangeAsync(string name, Action<ScheduleOptions> change, DbTransaction? transaction = null,
        CancellationToken cancellationToken = default);

    /// <summary>It fires again as it was last declared.</summary>
    /// <exception cref="CourierException">There is no such schedule, or the database cannot be used.</exception>
    Task RestoreAsync(
        string name, DbTransaction? transaction = null, CancellationToken cancellationToken = default);

    /// <summary>Removes a schedule that nobody declares any more.</summary>
    /// <exception cref="CourierException">
    /// There is no such schedule, a process that is running declares it, or the database cannot be used.
    /// </exception>
    Task RemoveAsync(
        string name, DbTransaction? transaction = null, CancellationToken cancellationToken = default);
}

/// <summary>A schedule of recurring events. Immutable.</summary>
public sealed class EventSchedule(
    string name, string type, ScheduleOptions options, IReadOnlyList<DateTimeOffset> firings)
{
    /// <summary>Its name.</summary>
    public string Name { get; } = name;

    /// <summary>The wire type of its events.</summary>
    public string Type { get; } = type;

    /// <summary>When it fires; changing them changes nothing.</summary>
    public ScheduleOptions Options { get; } = options;

    /// <summary>
    /// The times of its next five firings, in its time zone; without jitter, and also while it is paused.
    /// </summary>
    public IReadOnlyList<DateTimeOffset> Firings { get; } = firings;

    /// <summary>Why it cannot be said here when it fires, such as an unknown time zone; null where it can.</summary>
    public string? Problem { get; init; }

    /// <summary>When it is due, jitter included; null while it is paused, or where it never fires again.</summary>
    public DateTimeOffset? Due { get; init; }

    /// <summary>The time of its last firing; null: none yet.</summary>
    public DateTimeOffset? LastFired { get; init; }

    /// <summary>Since when it is paused; null: it is not.</summary>
    public DateTimeOffset? PausedSince { get; init; }

    /// <summary>Since when its options are others than declared; null: they are as declared.</summary>
    public DateTimeOffset? ChangedSince { get; init; }

    /// <summary>The options that were last declared.</summary>
    public required ScheduleOptions Declared { get; init; }

    /// <summary>How long ago a process that declares it was last seen; null where that is not known.</summary>
    public TimeSpan? DeclaredAge { get; init; }

    /// <summary>What all its events have in common: id and time are those of a firing.</summary>
    public required CourierEvent Template { get; init; }
}
