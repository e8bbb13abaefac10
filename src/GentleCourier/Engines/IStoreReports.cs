using GentleCourier.Watching;

namespace GentleCourier.Engines;

/// <summary>What a store tells of itself, to people. Thread-safe.</summary>
internal interface IStoreReports
{
    /// <summary>How full the outbox is, and how its relay does.</summary>
    Task<OutboxFigures> ReadOutboxFiguresAsync(CancellationToken cancellationToken = default);

    /// <summary>Events that have been handled, with the number of copies that came.</summary>
    Task<IReadOnlyList<InboxEntry>> ReadInboxAsync(string queue, CancellationToken cancellationToken = default);

    /// <summary>
    /// The copies of the last day that came with other data than the event of their source and id that was handled;
    /// null: there were none.
    /// </summary>
    Task<OtherDataFigures?> ReadOtherDataAsync(CancellationToken cancellationToken = default);

    /// <summary>
    /// What was handled before this time may have been forgotten, <see cref="RetentionOptions.Inbox"/>; null: nothing
    /// has been yet.
    /// </summary>
    Task<DateTimeOffset?> ReadForgottenBeforeAsync(CancellationToken cancellationToken = default);
}

/// <summary>An event that has been handled.</summary>
/// <param name="Source">The event's source.</param>
/// <param name="Id">The event's id.</param>
/// <param name="Copies">How many copies came, 1 or more; all but the first had no effect.</param>
/// <param name="Handled">When the first was handled.</param>
internal sealed record InboxEntry(string Source, string Id, int Copies, DateTimeOffset Handled);
