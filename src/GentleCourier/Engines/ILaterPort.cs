using System.Data.Common;

namespace GentleCourier.Engines;

/// <summary>
/// Events that wait in a table of their own, in nobody's way, until they are due and move into the outbox. All times
/// are to the millisecond, by the database's clock. Thread-safe.
/// </summary>
internal interface ILaterPort
{
    /// <summary>Writes events, in their order, as part of the caller's transaction.</summary>
    /// <exception cref="CourierException">The transaction is over, or not one of this store's database.</exception>
    Task AddAsync(
        DbTransaction transaction, IReadOnlyList<LaterDraft> events, CancellationToken cancellationToken = default);

    /// <summary>
    /// Moves what is due into the outbox, in the order in which it is due, where the term is not over. What another
    /// transaction has locked is passed by: it may be about to cancel it.
    /// </summary>
    /// <param name="term">The term in which the relay leads.</param>
    /// <param name="limit">How many at the most.</param>
    /// <param name="except">
    /// Schedules, by name, that nothing is to be said of, nor waited for: they cannot fire here.
    /// </param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<DueStep> MoveDueAsync(
        long term, int limit, IReadOnlyCollection<string> except, CancellationToken cancellationToken = default);

    /// <summary>
    /// Waits until something may be due sooner than was known, or the limit is over. What is due later than
    /// <see cref="LaterDraft.Soon"/> from now on need not be told.
    /// </summary>
    Task WaitAsync(TimeSpan limit, CancellationToken cancellationToken = default);

    /// <summary>
    /// Tells of events that the caller has written into the table past <see cref="AddAsync"/>: on his connection, so
    /// that it is told with the commit; where it is closed, everything is committed.
    /// </summary>
    Task TellAsync(DbConnection connection, CancellationToken cancellationToken = default);

    /// <summary>
    /// The time by which rows are stamped and delays are reckoned; null: the server's, and it says it.
    /// </summary>
    DateTimeOffset? Stamp { get; }

    /// <summary>
    /// From now on it is so late; what is named by the clock goes by that, and schedules are reckoned anew with it.
    /// </summary>
    /// <exception cref="CourierException">The time is not the store's own.</exception>
    Task SetClockAsync(DateTimeOffset time, CancellationToken cancellationToken = default);
}

/// <summary>An event to be published later.</summary>
/// <param name="Event">The event.</param>
/// <param name="Due">When.</param>
internal readonly record struct LaterDraft(EncodedEvent Event, DueTime Due)
{
    /// <summary>
    /// What is added, or moved, to be due within this time is told at once to whoever moves what is due.
    /// </summary>
    public static readonly TimeSpan Soon = TimeSpan.FromSeconds(10);
}

/// <summary>What was due.</summary>
/// <param name="Moved">How many events have moved.</param>
/// <param name="NextIn">How long until there may be more to move; null: nothing waits.</param>
/// <param name="ScheduleIn">How long until a schedule is due; null: none will be.</param>
/// <param name="Late">For how long the first of those that have moved had been due.</param>
/// <param name="Clock">What is new of the clock by which times are named; null: nothing.</param>
internal readonly record struct DueStep(
    int Moved, TimeSpan? NextIn, TimeSpan? ScheduleIn, TimeSpan Late = default, ClockNews? Clock = null);

/// <summary>What is new of the clock that a store goes by.</summary>
/// <param name="SetBy">How far it was set on, or back; zero: it was not.</param>
/// <param name="IsByHand">Whether somebody has set it by hand.</param>
/// <param name="Apart">
/// How far the clock of a relay is from it, where no majority of them agrees, and nothing leaves that is named by the
/// clock; null: one does.
/// </param>
internal readonly record struct ClockNews(TimeSpan SetBy, bool IsByHand, TimeSpan? Apart);
