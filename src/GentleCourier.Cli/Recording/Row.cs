namespace GentleCourier.Cli;

/// <summary>What a row of a recording tells of.</summary>
internal enum RowKind
{
    /// <summary>Recording began: all that is known is said anew.</summary>
    Start,

    /// <summary>
    /// The broker was asked at this time; queues and outboxes that have no row of it are as they were.
    /// </summary>
    Look,

    /// <summary>How a queue does.</summary>
    Queue,

    /// <summary>
    /// How an outbox does: what is held is in <c>scheduled</c>, what is refused in <c>dead_letters</c>.
    /// </summary>
    Outbox,

    /// <summary>A finding has come up.</summary>
    Found,

    /// <summary>A finding is over.</summary>
    Over,

    /// <summary>Workers of a queue have another version.</summary>
    Deployment,

    /// <summary>What somebody has noted.</summary>
    Note,
}

/// <summary>
/// A row of a recording. Counts are cumulative; what is unknown is null, and an empty field in the file.
/// </summary>
/// <param name="Time">When, by the clock of the recording host.</param>
/// <param name="Kind">What it tells of.</param>
/// <param name="Name">Of which queue, store or finding.</param>
internal sealed record Row(DateTimeOffset Time, RowKind Kind, string Name)
{
    public long? Ready { get; init; }

    public long? InHand { get; init; }

    public long? Scheduled { get; init; }

    public long? DeadLetters { get; init; }

    /// <summary>The age of the oldest that waits, in seconds; 0 where none does.</summary>
    public double? OldestSeconds { get; init; }

    public long? Came { get; init; }

    public long? Handled { get; init; }

    public long? Failed { get; init; }

    public long? SetAside { get; init; }

    public int? Workers { get; init; }

    /// <summary>How many handlers these may run at the same moment.</summary>
    public int? Handlers { get; init; }

    /// <summary>How busy they were, 0 to 1.</summary>
    public double? Busy { get; init; }

    /// <summary>How often one looks, in seconds.</summary>
    public double? EverySeconds { get; init; }

    public string? Text { get; init; }

    /// <summary>Events that are not handled yet; of an outbox, that are not relayed yet.</summary>
    public long? Waiting => Kind == RowKind.Outbox ? Ready : Ready + InHand + Scheduled;
}
