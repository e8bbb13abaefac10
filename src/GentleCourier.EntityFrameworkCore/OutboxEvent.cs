namespace GentleCourier.EntityFrameworkCore;

/// <summary>An event in the outbox, on its way there with the changes of a context.</summary>
internal sealed class OutboxEvent
{
    /// <summary>Given by the database: the order in which they are relayed.</summary>
    public long Id { get; init; }

    public required string EventId { get; init; }

    public required string Type { get; init; }

    public string? PartitionKey { get; init; }

    /// <summary>The whole event in CloudEvents' JSON format, UTF-8.</summary>
    public required byte[] Event { get; init; }
}

/// <summary>An event that waits until it is due, on its way there with the changes of a context.</summary>
internal sealed class LaterOutboxEvent
{
    /// <summary>Given by the database.</summary>
    public long Id { get; init; }

    public required string EventId { get; init; }

    public required string Type { get; init; }

    public string? PartitionKey { get; init; }

    /// <summary>The whole event in CloudEvents' JSON format, UTF-8.</summary>
    public required byte[] Event { get; init; }

    /// <summary>When it is due; what that means in the database is said when it is saved.</summary>
    public Due Due { get; init; }
}
