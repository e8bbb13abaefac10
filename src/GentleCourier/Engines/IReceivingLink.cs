namespace GentleCourier.Engines;

/// <summary>
/// One worker's way to receive from one queue. <see cref="ReceiveAsync"/> is called by one caller at a time; the other
/// members may be called at any moment. Disposing it gives nothing back: settle first.
/// </summary>
public interface IReceivingLink : IAsyncDisposable
{
    /// <summary>
    /// Waits until at least one event can be handed over, and takes up to <paramref name="credit"/> of them. Each
    /// hand-over counts as an attempt from this moment on, so that a handler that kills its process runs out of
    /// attempts too.
    /// </summary>
    /// <returns>1 to <paramref name="credit"/> deliveries.</returns>
    /// <exception cref="OperationCanceledException">Cancelled; nothing was taken.</exception>
    Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken);

    /// <summary>
    /// Settles many deliveries at once, durably, and takes what is ready in the same breath: both together cost what
    /// one of them does. It never waits for events. May be called while <see cref="ReceiveAsync"/> waits.
    /// </summary>
    /// <param name="settlements">What is to be settled.</param>
    /// <param name="credit">How many deliveries to take at the most; 0 for none.</param>
    /// <param name="cancellationToken">Ends the wait for the broker.</param>
    Task<Exchange> SettleAsync(IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken);

    /// <summary>Begins the lease of each delivery anew.</summary>
    /// <returns>For each whether the link still holds it, in the order of the list.</returns>
    Task<IReadOnlyList<bool>> RenewAsync(IReadOnlyList<LeaseToken> leases, CancellationToken cancellationToken);
}

/// <summary>Proof of holding one delivery. It is never used again for another hand-over of the same event.</summary>
/// <param name="Copy">The engine's number of the event's copy in the queue.</param>
/// <param name="Number">The engine's number of the hand-over.</param>
public readonly record struct LeaseToken(long Copy, long Number);

/// <summary>An event handed over to a link: a delivery, not yet read.</summary>
/// <param name="Json">The event in CloudEvents' JSON format, UTF-8, as it was published.</param>
/// <param name="Attempt">1 for the first time that the event is handed over, and so on.</param>
/// <param name="Abandoned">
/// How many of the attempts before this one, the latest in a row, were never settled: the worker was killed, or lost
/// its lease. Where an engine cannot know, all of them.
/// </param>
/// <param name="Lease">With what to settle it.</param>
public readonly record struct HandOver(ReadOnlyMemory<byte> Json, int Attempt, int Abandoned, LeaseToken Lease);

/// <summary>What came of settling.</summary>
/// <param name="Took">
/// For each settlement whether it took effect, in the order of the list. False: the lease was lost, the event belongs
/// to someone else by now, and nothing was changed.
/// </param>
/// <param name="Deliveries">What was taken; no more than the credit, and maybe none.</param>
public readonly record struct Exchange(IReadOnlyList<bool> Took, IReadOnlyList<HandOver> Deliveries);

/// <summary>How one delivery is settled.</summary>
/// <param name="Lease">The delivery.</param>
/// <param name="Outcome">What became of it.</param>
public readonly record struct Settlement(LeaseToken Lease, Outcome Outcome);

/// <summary>What became of a delivery, in AMQP 1.0's words (ISO/IEC 19464, part 3, section 3.4).</summary>
public abstract record Outcome
{
    private Outcome()
    {
    }

    /// <summary>Handled: the event leaves the queue.</summary>
    public static Outcome Accepted { get; } = new AcceptedOutcome();

    /// <summary>Given back untouched: ready at once, and the attempt does not count.</summary>
    public static Outcome Released { get; } = new ReleasedOutcome();

    /// <summary>The event is handled and leaves the queue.</summary>
    public sealed record AcceptedOutcome : Outcome;

    /// <summary>The event is given back as if it had not been handed over.</summary>
    public sealed record ReleasedOutcome : Outcome;

    /// <summary>The attempt failed; the event comes again.</summary>
    /// <param name="Delay">After this time.</param>
    /// <param name="Error">Why, for people.</param>
    public sealed record Modified(TimeSpan Delay, string Error) : Outcome;

    /// <summary>The event is set aside as a dead letter.</summary>
    /// <param name="Reason">Why, in one line, for people.</param>
    /// <param name="Failure">The exception behind it, if there was one.</param>
    public sealed record Rejected(string Reason, Failure? Failure) : Outcome;
}

/// <summary>An exception, kept with a dead letter.</summary>
/// <param name="Exception">The full name of its class.</param>
/// <param name="Message">Its message.</param>
/// <param name="Stack">Its stack, with inner exceptions.</param>
public sealed record Failure(string Exception, string Message, string Stack)
{
    /// <summary>What <paramref name="exception"/> says.</summary>
    public static Failure Of(Exception exception)
    {
        ArgumentNullException.ThrowIfNull(exception);
        return new(exception.GetType().FullName ?? exception.GetType().Name, exception.Message, exception.ToString());
    }
}
