using System.Data.Common;
using GentleCourier.Events;

namespace GentleCourier;

/// <summary>
/// Events that wait in the store until they are due: to be listed, moved to another time and cancelled. Once an event
/// is due it leaves for the outbox, and it is too late for both. Thread-safe; a transaction is not.
/// </summary>
/// <remarks>
/// With a transaction of the caller's, on the store's database, it happens with the business change, or not at all; and
/// what the transaction has added itself is there too. Until it ends, what it has changed does not leave.
/// </remarks>
public interface ILaterEvents
{
    /// <summary>What waits, the next to be due first.</summary>
    /// <param name="which">Which of them; null: all.</param>
    /// <param name="limit">
    /// How many at the most, from 1 on; fewer, where they have more than 16 MiB.
    /// </param>
    /// <param name="after">The last one of the list before, to read on; null: from the first on.</param>
    /// <param name="transaction">The caller's open transaction; null: none.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <returns>None where there are no more.</returns>
    /// <exception cref="CourierException">
    /// The database cannot be used, or the transaction is over or belongs to another database.
    /// </exception>
    Task<IReadOnlyList<LaterEvent>> ListAsync(
        LaterFilter? which = null, int limit = 100, LaterEvent? after = null, DbTransaction? transaction = null,
        CancellationToken cancellationToken = default);

    /// <summary>Cancels events: they are never published. May be repeated: what is gone is not counted again.</summary>
    /// <param name="which">Those with this id, key or type; at least one of them has to be said.</param>
    /// <param name="transaction">The caller's open transaction; null: one of its own.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <returns>How many: 0 where it is too late, or where there never was one.</returns>
    /// <exception cref="ArgumentException">The filter would take all.</exception>
    /// <exception cref="CourierException">
    /// The database cannot be used, or the transaction is over or belongs to another database.
    /// </exception>
    Task<int> CancelAsync(
        LaterFilter which, DbTransaction? transaction = null, CancellationToken cancellationToken = default);

    /// <summary>
    /// Moves events to another time, which their CloudEvents <c>time</c> then says too; without a transaction in
    /// several steps, where they are many. May be repeated: what has moved already stays there.
    /// </summary>
    /// <param name="which">Those with this id, key or type; at least one of them has to be said.</param>
    /// <param name="due">The new time, the same for all.</param>
    /// <param name="transaction">The caller's open transaction; null: none.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <returns>How many: 0 where it is too late, or where there never was one.</returns>
    /// <exception cref="ArgumentException">The filter would take all.</exception>
    /// <exception cref="CourierException">
    /// The database cannot be used, or the transaction is over or belongs to another database.
    /// </exception>
    Task<int> MoveAsync(
        LaterFilter which, DueTime due, DbTransaction? transaction = null,
        CancellationToken cancellationToken = default);
}

/// <summary>Which events: those for which everything holds that is said.</summary>
public sealed class LaterFilter
{
    /// <summary>With this id.</summary>
    public string? Id { get; init; }

    /// <summary>With this partition key.</summary>
    public string? PartitionKey { get; init; }

    /// <summary>Of this wire type.</summary>
    public string? Type { get; init; }

    internal bool IsAll => Id is null && PartitionKey is null && Type is null;
}

/// <summary>An event that waits until it is due. Immutable.</summary>
public sealed class LaterEvent(
    long row, string id, string type, string? partitionKey, DateTimeOffset due, DateTimeOffset added,
    ReadOnlyMemory<byte> json)
{
    /// <summary>The engine's number of it.</summary>
    public long Row { get; } = row;

    /// <summary>The event's id.</summary>
    public string Id { get; } = id;

    /// <summary>The event's wire type.</summary>
    public string Type { get; } = type;

    /// <summary>The event's partition key, if it has one.</summary>
    public string? PartitionKey { get; } = partitionKey;

    /// <summary>When it is due, to the millisecond.</summary>
    public DateTimeOffset Due { get; } = due;

    /// <summary>When it was added.</summary>
    public DateTimeOffset Added { get; } = added;

    /// <summary>The event in CloudEvents' JSON format, UTF-8.</summary>
    public ReadOnlyMemory<byte> Json { get; } = json;

    /// <summary>Reads the event itself.</summary>
    public CourierEvent Read() => EventJson.Read(Json);
}
