namespace GentleCourier.Engines;

/// <summary>
/// Takes events over from a broker that can do less than is needed with them: what has failed there, or may have been
/// begun, goes on here, with attempts, delays and dead letters. Thread-safe.
/// </summary>
internal interface ITakeOver
{
    /// <summary>
    /// Takes events over, durably and all in one transaction, whatever their partition keys. One that is here already,
    /// in the queue or among its dead letters, is not taken twice: taking over may be repeated after a kill.
    /// </summary>
    /// <param name="queue">The queue that they are of; it must exist here.</param>
    /// <param name="worker">Who has had them in hand, for people.</param>
    /// <param name="events">The events.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>
    /// For each the dead letter that it has become, in the order of the list; null where it is none, or was one before.
    /// </returns>
    Task<IReadOnlyList<string?>> TakeOverAsync(
        string queue, string worker, IReadOnlyList<TakenOver> events, CancellationToken cancellationToken = default);

    /// <summary>
    /// Counts what was handled without being taken over, and what waits elsewhere: that has come to the queue, too.
    /// </summary>
    /// <param name="queue">The queue; it must exist here.</param>
    /// <param name="accepted">How many events were handled since the caller last counted.</param>
    /// <param name="waiting">How many wait elsewhere at this moment; null where that is not known.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task CountAsync(
        string queue, long accepted, long? waiting, CancellationToken cancellationToken = default);
}

/// <summary>An event that is taken over.</summary>
/// <param name="Json">The event as it was published; UTF-8 JSON, unless that is what is wrong with it.</param>
/// <param name="Attempts">How many attempts count so far.</param>
/// <param name="TriedFor">
/// How long ago it was tried for the first time; null where it has not been, or nobody knows.
/// </param>
/// <param name="Outcome">
/// What became of it: it comes again, as <see cref="Outcome.Modified"/> says; or it is set aside, as
/// <see cref="Outcome.Rejected"/> says; null: nobody knows, it is ready.
/// </param>
internal sealed record TakenOver(ReadOnlyMemory<byte> Json, int Attempts, TimeSpan? TriedFor, Outcome? Outcome)
{
    /// <summary>How many attempts failed and do not count.</summary>
    public int Uncounted { get; init; }

    internal Outcome.Modified? Again => Outcome as Outcome.Modified;

    internal Outcome.Rejected? Rejected => Outcome as Outcome.Rejected;

    /// <summary>What it is known by.</summary>
    internal string Identity { get; } = EventIdentity.Of(Json);
}
