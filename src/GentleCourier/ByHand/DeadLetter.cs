namespace GentleCourier.ByHand;

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
public sealed class SentBack(
    string letter, DateTimeOffset setAside, string reason, string? exception, string? message, int attempts,
    string worker, DateTimeOffset at, bool isRepaired)
{
    /// <summary>The dead letter that it was.</summary>
    public string Letter { get; } = letter;

    /// <summary>When it was set aside.</summary>
    public DateTimeOffset SetAside { get; } = setAside;

    /// <summary>Why, in one line.</summary>
    public string Reason { get; } = reason;

    /// <summary>The full name of the exception's class, if there was one.</summary>
    public string? Exception { get; } = exception;

    /// <summary>Its message.</summary>
    public string? Message { get; } = message;

    /// <summary>How many times it had been handed over.</summary>
    public int Attempts { get; } = attempts;

    /// <summary>The worker that set it aside.</summary>
    public string Worker { get; } = worker;

    /// <summary>When it was sent back.</summary>
    public DateTimeOffset At { get; } = at;

    /// <summary>Whether the event was changed on this occasion.</summary>
    public bool IsRepaired { get; } = isRepaired;
}

/// <summary>An exception, kept with a dead letter.</summary>
public sealed class Failure(string exception, string message, string stack)
{
    /// <summary>The full name of its class.</summary>
    public string Exception { get; } = exception;

    /// <summary>Its message.</summary>
    public string Message { get; } = message;

    /// <summary>Its stack, with inner exceptions.</summary>
    public string Stack { get; } = stack;

    /// <summary>What <paramref name="exception"/> says.</summary>
    internal static Failure Of(Exception exception) =>
        new(Words.NameOf(exception), Words.Of(exception), Words.AllOf(exception));
}
