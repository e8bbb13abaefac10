using System.Data.Common;

namespace GentleCourier.Tables;

/// <summary>
/// The tables of a store or a broker on a database, for all that is not on an event's way: what is said to them is
/// written once, for every engine. Thread-safe.
/// </summary>
internal interface ITables
{
    /// <summary>Runs statements.</summary>
    /// <param name="statements">The statements.</param>
    /// <param name="transaction">In which transaction of the caller's; null: in one of their own.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <exception cref="CourierException">
    /// The database cannot be reached or used, or the transaction is over, or of another database.
    /// </exception>
    Task RunAsync(
        Statements statements, DbTransaction? transaction = null, CancellationToken cancellationToken = default);

    /// <summary>
    /// The first events for later that a condition holds for, as <c>place</c>, the number of the row, and <c>at</c>,
    /// when it is due by the clock, in that order.
    /// </summary>
    /// <param name="where">The condition.</param>
    /// <param name="isOfFew">Whether that is true of few.</param>
    /// <param name="after">Only those behind this one.</param>
    /// <param name="limit">How many at the most.</param>
    Sql NextDue(Sql where, bool isOfFew, LaterEvent? after, int limit);

    /// <summary>Sets when an event for later is due, by the clock or by a delay, in an update.</summary>
    Sql SetDue(DateTimeOffset time, bool byClock);
}
