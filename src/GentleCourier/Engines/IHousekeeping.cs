namespace GentleCourier.Engines;

/// <summary>
/// Clears away what need not be kept any longer, in steps that nobody notices. One process at a time does each chore,
/// which spares work; several at once do no harm. Thread-safe.
/// </summary>
internal interface IHousekeeping
{
    /// <summary>Takes a chore, or keeps it, where it is time for it.</summary>
    /// <param name="chore">The chore.</param>
    /// <param name="keeper">Who takes it.</param>
    /// <param name="lease">For how long it is the keeper's; after that another may take it.</param>
    /// <param name="every">It is time again so long after it was last done.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>Whether it is this keeper's now.</returns>
    Task<bool> TakeAsync(
        Chore chore, string keeper, TimeSpan lease, TimeSpan every, CancellationToken cancellationToken = default);

    /// <summary>One step of it.</summary>
    /// <param name="chore">The chore.</param>
    /// <param name="from">Where the last step ended; null for the first.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task<ChoreStep> DoAsync(Chore chore, string? from, CancellationToken cancellationToken = default);

    /// <summary>It is done for this time, or given back.</summary>
    Task EndAsync(Chore chore, string keeper, bool isDone, CancellationToken cancellationToken = default);
}

/// <summary>Something to be cleared away.</summary>
/// <param name="Kind">What.</param>
/// <param name="Queue">Of which queue; null where it is of none.</param>
/// <param name="Keep">What is younger is kept.</param>
internal sealed record Chore(ChoreKind Kind, string? Queue, TimeSpan Keep)
{
    internal string Name => Queue is null ? Kind.ToString() : $"{Kind} {Queue}";
}

/// <summary>What there is to be cleared away.</summary>
internal enum ChoreKind
{
    /// <summary>A store's record of what was handled.</summary>
    Inbox,

    /// <summary>A store's events that the broker has refused for good.</summary>
    Refused,

    /// <summary>A broker's dead letters.</summary>
    DeadLetters,

    /// <summary>A broker's counts, by <see cref="IRecount"/>: nothing is removed, they are reckoned anew.</summary>
    Counts,
}

/// <summary>What came of one step.</summary>
/// <param name="Removed">How many rows it has removed.</param>
/// <param name="Next">Where the next one begins; null: that was the last.</param>
internal readonly record struct ChoreStep(int Removed, string? Next);
