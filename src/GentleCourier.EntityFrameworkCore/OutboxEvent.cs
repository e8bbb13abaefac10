namespace GentleCourier.EntityFrameworkCore;

/// <summary>An event on its way into a table of the store with the changes of a context. No table of its own.</summary>
internal abstract class WrittenEvent
{
    /// <summary>Given by the database; in the outbox, the order in which they are relayed.</summary>
    public long Id { get; init; }

    public required string EventId { get; init; }

    public required string Type { get; init; }

    public string? PartitionKey { get; init; }

    /// <summary>The whole event in CloudEvents' JSON format, UTF-8.</summary>
    public required byte[] Event { get; init; }
}

/// <summary>An event in the outbox.</summary>
internal sealed class OutboxEvent : WrittenEvent;

/// <summary>An event that waits until it is due.</summary>
internal sealed class LaterOutboxEvent : WrittenEvent
{
    /// <summary>When it is due; what that means in the database is said when it is saved.</summary>
    public DueTime Due { get; init; }
}
