namespace GentleCourier.Engines;

/// <summary>What a relay does with the outbox. Thread-safe.</summary>
public interface IRelayPort
{
    /// <summary>
    /// Takes the lead among the relays of this store, or keeps it, for <paramref name="lease"/> from now on.
    /// </summary>
    /// <returns>
    /// The number of this term of leading, which grows with every change of the leader; null while another leads.
    /// </returns>
    Task<long?> LeadAsync(string relay, TimeSpan lease, CancellationToken cancellationToken = default);

    /// <summary>
    /// Gives up the lead, so that another relay can take it at once; nothing happens where the term is over.
    /// </summary>
    Task ResignAsync(long term, CancellationToken cancellationToken = default);

    /// <summary>
    /// Reads events that may be relayed now: fresh ones in the order in which they were added, and held ones that are
    /// due. Rows are found by being there, never by an id that was seen before: transactions commit out of order.
    /// </summary>
    /// <param name="limit">About how many.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<OutboxBatch> ReadOutboxAsync(int limit, CancellationToken cancellationToken = default);

    /// <summary>
    /// Writes down what the broker did with a batch: taken events leave, deferred ones are held until they are due
    /// again, refused ones are set aside with the reason. Changes nothing where <paramref name="term"/> is over.
    /// </summary>
    /// <returns>Whether the term was still this relay's.</returns>
    Task<bool> MarkAsync(long term, IReadOnlyList<RelayMark> marks, CancellationToken cancellationToken = default);

    /// <summary>
    /// Finds out whether the outbox and the broker's queues are in one database, so that events need not leave it on
    /// their way.
    /// </summary>
    /// <returns>The way; null where there is none.</returns>
    Task<IDirectWay?> FindDirectWayAsync(IBroker broker, CancellationToken cancellationToken = default) =>
        Task.FromResult<IDirectWay?>(null);

    /// <summary>Writes down why nothing could be relayed at all; null when it works again.</summary>
    Task RecordRelayErrorAsync(long term, string? error, CancellationToken cancellationToken = default);

    /// <summary>Waits until something may have been committed into the outbox, or the limit is over.</summary>
    Task WaitForOutboxAsync(TimeSpan limit, CancellationToken cancellationToken = default);
}

/// <summary>A way from an outbox into queues inside one database. Thread-safe.</summary>
public interface IDirectWay
{
    /// <summary>
    /// Moves the next fresh events in one transaction, so that a relay that is killed publishes none twice. Moves
    /// nothing where
    /// <paramref name="term"/> is over.
    /// </summary>
    /// <returns>
    /// How many it has moved. Fewer than the limit: what is left, if anything, has to be read and published, since an
    /// event waits for its turn, or the broker would not take one.
    /// </returns>
    Task<int> MoveAsync(long term, int limit, CancellationToken cancellationToken = default);
}

/// <summary>Events to be relayed.</summary>
/// <param name="Rows">In the order in which they have to be published.</param>
/// <param name="DueIn">
/// How long it is until the next held event is due, by the database's clock; null where there is none.
/// </param>
public sealed record OutboxBatch(IReadOnlyList<OutboxRow> Rows, TimeSpan? DueIn);

/// <summary>One event in an outbox.</summary>
/// <param name="Row">Its number in the outbox.</param>
/// <param name="Attempts">How many times it has been deferred.</param>
/// <param name="Event">The event.</param>
public readonly record struct OutboxRow(long Row, int Attempts, EncodedEvent Event);

/// <summary>What becomes of one row.</summary>
/// <param name="Row">The row, as it was read.</param>
/// <param name="Result">What the broker did with it.</param>
/// <param name="RetryAfter">
/// For a deferred row: how long it is held, and every waiting row with its partition key.
/// </param>
public readonly record struct RelayMark(OutboxRow Row, PublishResult Result, TimeSpan RetryAfter);
