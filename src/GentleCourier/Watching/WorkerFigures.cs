namespace GentleCourier.Watching;

/// <summary>A process that receives, as it last said of itself.</summary>
/// <param name="Id">Its own: no other process ever has it.</param>
/// <param name="Worker">Its host and process id, for people.</param>
/// <param name="Version">The version of its program.</param>
/// <param name="Since">When it began to receive, by its own clock.</param>
/// <param name="Receivers">What it receives, a queue each.</param>
public sealed record WorkerFigures(
    string Id, string Worker, string Version, DateTimeOffset Since, IReadOnlyList<ReceiverFigures> Receivers)
{
    /// <summary>How long ago it said so, by the broker's clock.</summary>
    public TimeSpan Seen { get; init; }

    /// <summary>When it said so, by its own clock.</summary>
    public DateTimeOffset Said { get; init; }

    /// <summary>
    /// How far its clock is ahead of the broker's, or behind it where negative; known to about the time that a message
    /// takes. Null where the engine cannot know.
    /// </summary>
    public TimeSpan? Ahead { get; init; }

    /// <summary>
    /// The number of the latest order by hand that it has taken up; null where its program does not know of any.
    /// </summary>
    public long? Heard { get; init; }

    /// <summary>Whether it takes no more, since somebody has said so by hand.</summary>
    public bool IsDrained { get; init; }

    /// <summary>Whether it has nothing in hand.</summary>
    internal bool IsIdle => Receivers.All(r => r.InHand == 0);
}

/// <summary>How a worker receives from one queue.</summary>
/// <param name="Queue">The queue.</param>
/// <param name="Types">The types of events that it handles.</param>
/// <param name="Prefetch">How many deliveries it may hold: a number, <c>self-tuned</c> or <c>unlimited</c>.</param>
/// <param name="Parallel">How many handlers may run at the same moment.</param>
public sealed record ReceiverFigures(string Queue, IReadOnlyList<string> Types, string Prefetch, int Parallel)
{
    /// <summary>Deliveries that it holds.</summary>
    public int InHand { get; init; }

    /// <summary>Of these, the ones that are being handled.</summary>
    public int Running { get; init; }

    /// <summary>Events handled since it began.</summary>
    public long Handled { get; init; }

    /// <summary>Attempts failed since it began.</summary>
    public long Failed { get; init; }

    /// <summary>For how long the handler has been running that has run longest; null where none runs.</summary>
    public TimeSpan? Longest { get; init; }

    /// <summary>
    /// How busy its handlers were between the last two times that it said so, 0 to 1; null the first time.
    /// </summary>
    public double? Utilisation { get; init; }

    /// <summary>How long its handlers took, in the last five to ten minutes.</summary>
    public Histogram? HandlingTimes { get; init; }

    /// <summary>
    /// How long events had been in the queue when they were handed to a handler for the first time, in the last five
    /// to ten minutes; null where the engine cannot know.
    /// </summary>
    public Histogram? WaitingTimes { get; init; }

    /// <summary>How long a handler may take; null: as long as it likes.</summary>
    public TimeSpan? TimeLimit { get; init; }

    /// <summary>Why its brake is on, for which events; null where it is off.</summary>
    public string? Brake { get; init; }

    /// <summary>For how long its brake has been on; null where it is off.</summary>
    public TimeSpan? BrakedFor { get; init; }

    /// <summary>Whether it begins nothing, since somebody has said so by hand.</summary>
    public bool IsHeld { get; init; }

    /// <summary>How it receives otherwise than its settings say, in words; null where it does not.</summary>
    public string? Steering { get; init; }

    /// <summary>Why it does not receive as somebody has said by hand; null where it does.</summary>
    public string? SteeringProblem { get; init; }

    /// <summary>Why it cannot reach the queue at this moment; null where it can.</summary>
    public string? Problem { get; init; }
}
