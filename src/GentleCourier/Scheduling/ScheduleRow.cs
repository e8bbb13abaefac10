namespace GentleCourier.Scheduling;

/// <summary>Schedules, at a time.</summary>
/// <param name="Rows">The schedules.</param>
/// <param name="Now">The time, by the database's clock.</param>
internal sealed record ScheduleRows(IReadOnlyList<ScheduleRow> Rows, DateTimeOffset Now);

/// <summary>A schedule, as it is kept.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Version">Grows with every change; 0 where it is not kept yet.</param>
internal sealed record ScheduleRow(string Name, long Version)
{
    /// <summary>The wire type of its events.</summary>
    public required string Type { get; init; }

    /// <summary>What all its events have in common, as an event in CloudEvents' JSON format.</summary>
    public required ReadOnlyMemory<byte> Template { get; init; }

    /// <summary>When it fires, as JSON.</summary>
    public required string Rule { get; init; }

    /// <summary>The same, as it was last declared.</summary>
    public required string DeclaredRule { get; init; }

    /// <summary>What identifies all that was last declared.</summary>
    public required string Declaration { get; init; }

    /// <summary>The time of its next firing; null: it never fires again.</summary>
    public DateTimeOffset? Next { get; init; }

    /// <summary>
    /// When that is due, which jitter may have delayed; null while it is paused, or never fires again.
    /// </summary>
    public DateTimeOffset? Due { get; init; }

    /// <summary>The time of its last firing; null: none yet.</summary>
    public DateTimeOffset? Fired { get; init; }

    /// <summary>Since when it is paused; null: it is not.</summary>
    public DateTimeOffset? Paused { get; init; }

    /// <summary>When its rule was changed by hand; null: it is as declared.</summary>
    public DateTimeOffset? Changed { get; init; }
}

/// <summary>A declaration of a schedule by some process.</summary>
/// <param name="Name">The schedule's name.</param>
/// <param name="Declaration">What identifies what is declared.</param>
/// <param name="Age">How long ago a process that declares it was last seen.</param>
internal sealed record SeenDeclaration(string Name, string Declaration, TimeSpan Age);
