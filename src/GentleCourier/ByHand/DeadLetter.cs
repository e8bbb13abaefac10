namespace GentleCourier;

/// <summary>An event set aside, with everything that is known about why.</summary>
public sealed record DeadLetter
{
    /// <summary>Its id within the broker, as the engine writes it.</summary>
    public required string Id { get; init; }

    /// <summary>The queue whose receiver set it aside.</summary>
    public required string Queue { get; init; }

    /// <summary>Why, in one line.</summary>
    public required string Reason { get; init; }

    /// <summary>The exception behind it, if there was one.</summary>
    public Failure? Failure { get; init; }

    /// <summary>How many times it was handed over.</summary>
    public required int Attempts { get; init; }

    /// <summary>The worker that set it aside.</summary>
    public required string Worker { get; init; }

    /// <summary>When the queue got it; null where the engine cannot know.</summary>
    public DateTimeOffset? Arrived { get; init; }

    /// <summary>When it was handed over for the first time; null where the engine cannot know.</summary>
    public DateTimeOffset? FirstAttempt { get; init; }

    /// <summary>When it was set aside.</summary>
    public required DateTimeOffset SetAside { get; init; }

    /// <summary>The event as it was published; UTF-8 JSON, unless that is what is wrong with it.</summary>
    public required ReadOnlyMemory<byte> Json { get; init; }

    /// <summary>
    /// The times that it was set aside and sent back before, the latest ten of them, the oldest first.
    /// </summary>
    public IReadOnlyList<SentBack> History { get; init; } = [];
}

/// <summary>One time that an event was set aside and sent back.</summary>
/// <param name="Letter">The dead letter that it was.</param>
/// <param name="SetAside">When it was set aside.</param>
/// <param name="Reason">Why, in one line.</param>
/// <param name="Exception">The full name of the exception's class, if there was one.</param>
/// <param name="Message">Its message.</param>
/// <param name="Attempts">How many times it had been handed over.</param>
/// <param name="Worker">The worker that set it aside.</param>
/// <param name="At">When it was sent back.</param>
/// <param name="IsRepaired">Whether the event was changed on this occasion.</param>
public sealed record SentBack(
    string Letter, DateTimeOffset SetAside, string Reason, string? Exception, string? Message, int Attempts,
    string Worker, DateTimeOffset At, bool IsRepaired);

/// <summary>An exception, kept with a dead letter.</summary>
/// <param name="Exception">The full name of its class.</param>
/// <param name="Message">Its message.</param>
/// <param name="Stack">Its stack, with inner exceptions.</param>
public sealed record Failure(string Exception, string Message, string Stack)
{
    /// <summary>What <paramref name="exception"/> says.</summary>
    internal static Failure Of(Exception exception) =>
        new(Words.NameOf(exception), Words.Of(exception), Words.AllOf(exception));
}
