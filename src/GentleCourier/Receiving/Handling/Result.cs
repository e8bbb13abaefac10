namespace GentleCourier.Receiving.Handling;

/// <summary>
/// What came of one attempt. It is decided once, in <see cref="AttemptRunner"/>: at the commit, or where the attempt
/// ended before it. Whatever fails after that changes nothing.
/// </summary>
internal abstract record Result
{
    private Result()
    {
    }

    /// <summary>The effect is durable, together with the rows of all events that did not fail by themselves.</summary>
    public static Result Committed { get; } = new CommittedResult();

    /// <summary>Another has handled one of the events first: nothing of this attempt counts.</summary>
    public static Result HandledElsewhere { get; } = new HandledElsewhereResult();

    /// <summary>The host stops, and there is no time left to finish: nothing has happened.</summary>
    public static Result Stopped { get; } = new StoppedResult();

    public sealed record CommittedResult : Result;

    public sealed record HandledElsewhereResult : Result;

    public sealed record StoppedResult : Result;

    /// <summary>It failed, without effect.</summary>
    /// <param name="Reason">Whether it was cut short, and by what.</param>
    /// <param name="Exception">What it threw.</param>
    public sealed record Failed(Cut Reason, Exception Exception) : Result;
}
