using GentleCourier.ByHand;

namespace GentleCourier.Engines;

/// <summary>
/// One worker's way to receive from one queue. <see cref="ReceiveAsync"/> is called by one caller at a time; the other
/// members may be called at any moment. A link outlives failures: after a <see cref="CourierException"/> the same can
/// be asked again, and what it has handed over is still held. Only after a <see cref="LinkLostException"/> it is gone,
/// and with it all that it had handed over. Disposing it gives nothing back: settle first.
/// </summary>
internal interface IReceivingLink : IAsyncDisposable
{
    /// <summary>
    /// How often what is held has to be renewed, long before it would go to others; null: never, it belongs to the link
    /// for as long as that lives.
    /// </summary>
    TimeSpan? RenewEvery { get; }

    /// <summary>
    /// How long it takes at present until what is asked for is there, where <see cref="SettleAsync"/> does not wait for
    /// it; null: as long as that takes.
    /// </summary>
    TimeSpan? RoundTrip { get; }

    /// <summary>
    /// Waits until at least one event can be handed over, and takes up to <paramref name="credit"/> of them. Where the
    /// engine counts attempts, each hand-over is one from this moment on, so that a handler that kills its process runs
    /// out of attempts too. A peer that pushes may send as many as the credit after this has returned; they are given
    /// to the next who asks.
    /// </summary>
    /// <returns>1 to <paramref name="credit"/> deliveries, of no more than <see cref="Budget.Bytes"/>.</returns>
    /// <exception cref="OperationCanceledException">Cancelled; nothing was taken.</exception>
    /// <exception cref="LinkLostException">The link is gone.</exception>
    Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken);

    /// <summary>
    /// Settles many deliveries at once, and takes what is ready in the same breath: both together cost what one of them
    /// does. It never waits for events. May be called while <see cref="ReceiveAsync"/> waits. Where the engine does not
    /// wait for an answer, what was settled may still come again: see <see cref="ConfirmAsync"/>.
    /// </summary>
    /// <param name="settlements">What is to be settled.</param>
    /// <param name="credit">How many deliveries to take at the most; 0 for none.</param>
    /// <param name="cancellationToken">Ends the wait for the broker.</param>
    /// <exception cref="LinkLostException">The link is gone.</exception>
    Task<Exchange> SettleAsync(IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken);

    /// <summary>
    /// Waits until the broker has what was settled before: then a worker that dies does not have it come again.
    /// </summary>
    /// <exception cref="LinkLostException">The link is gone; what was settled may come again.</exception>
    Task ConfirmAsync(CancellationToken cancellationToken);

    /// <summary>
    /// Nothing is asked for until further notice: what a peer has pushed, and nobody has been given, goes back to
    /// others at once. It does not wait, nor throw; an engine that does not push has nothing to do.
    /// </summary>
    void Withdraw()
    {
    }

    /// <summary>Renews what is held; called only where <see cref="RenewEvery"/> says how often.</summary>
    /// <returns>For each whether the link still holds it, in the order of the list.</returns>
    /// <exception cref="LinkLostException">The link is gone.</exception>
    Task<IReadOnlyList<bool>> RenewAsync(IReadOnlyList<HandOver> deliveries, CancellationToken cancellationToken);
}

/// <summary>
/// A link is gone, and with it whatever it had handed over: those events come again, to whoever receives. Open another
/// link.
/// </summary>
internal sealed class LinkLostException(string message, Exception? inner = null) : CourierException(message, inner);

/// <summary>
/// An event handed over to a link: a delivery, not yet read. It is the only proof of holding the event, and belongs to
/// its link; an engine derives it, and keeps in it what it needs to know it by.
/// </summary>
/// <param name="json">The event in CloudEvents' JSON format, UTF-8, as it was published.</param>
/// <param name="attempt">
/// 1 for the first time that the event is handed over, and so on; null where the engine does not count.
/// </param>
/// <param name="abandoned">
/// How many of the attempts before this one, the latest in a row, were never settled: the worker was killed, or lost
/// the delivery. Null where the engine cannot know.
/// </param>
/// <param name="triedFor">
/// How long ago it was handed over for the first time; null where this is the first, or the engine cannot know.
/// </param>
internal abstract class HandOver(ReadOnlyMemory<byte> json, int? attempt, int? abandoned, TimeSpan? triedFor = null)
{
    /// <summary>The event in CloudEvents' JSON format, UTF-8, as it was published.</summary>
    public ReadOnlyMemory<byte> Json { get; } = json;

    /// <summary>
    /// 1 for the first time that the event is handed over, and so on; null where the engine does not count.
    /// </summary>
    public int? Attempt { get; } = attempt;

    /// <summary>
    /// How many attempts there were before it at the least, where it is not known which it is, as others have counted.
    /// </summary>
    public int FailedBefore { get; init; }

    /// <summary>
    /// How many of the attempts before this one, the latest in a row, were never settled; null where the engine cannot
    /// know.
    /// </summary>
    public int? Abandoned { get; } = abandoned;

    /// <summary>
    /// How long ago it was handed over for the first time, counted or not; null where this is the first, or the engine
    /// cannot know.
    /// </summary>
    public TimeSpan? TriedFor { get; } = triedFor;

    /// <summary>
    /// How many attempts before this one failed and did not count; null where the engine cannot know.
    /// </summary>
    public int? Uncounted { get; init; }

    /// <summary>
    /// Why the engine could not make an event of what it was given, which is in <see cref="Json"/>; null where it
    /// could.
    /// </summary>
    public string? Problem { get; init; }

    /// <summary>
    /// For how long it had been in the queue when it was handed over; null where the engine cannot know.
    /// </summary>
    public TimeSpan? Waited { get; init; }

    /// <summary>
    /// The same, and how long it had waited in an outbox before, by the clocks of broker and store; null where the
    /// engine cannot know.
    /// </summary>
    public TimeSpan? Age { get; init; }
}

/// <summary>What came of settling.</summary>
/// <param name="Took">
/// For each settlement whether it took effect, in the order of the list. False: the event belongs to someone else by
/// now, and nothing was changed.
/// </param>
/// <param name="Deliveries">What was taken; no more than the credit, and maybe none.</param>
internal readonly record struct Exchange(IReadOnlyList<bool> Took, IReadOnlyList<HandOver> Deliveries)
{
    /// <summary>
    /// The <see cref="DeadLetter.Id"/> of what was set aside by this settling, where the engine knows it; null where
    /// there is none.
    /// </summary>
    public IReadOnlyDictionary<HandOver, string>? DeadLetters { get; init; }
}

/// <summary>How one delivery is settled.</summary>
/// <param name="Delivery">The delivery, which belongs to the link that is told.</param>
/// <param name="Outcome">What became of it.</param>
internal readonly record struct Settlement(HandOver Delivery, Outcome Outcome);

/// <summary>What became of a delivery, in AMQP 1.0's words (ISO/IEC 19464, part 3, section 3.4).</summary>
internal abstract record Outcome
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

    /// <summary>The attempt failed; the event comes again, after a delay behind those that wait by then.</summary>
    /// <param name="Delay">After this time.</param>
    /// <param name="Error">Why, for people.</param>
    public sealed record Modified(TimeSpan Delay, string Error) : Outcome
    {
        /// <summary>
        /// Whether the attempt counts, in AMQP 1.0's words <c>delivery-failed</c>; not, where the failure was none of
        /// the event's.
        /// </summary>
        public bool Counts { get; init; } = true;

        /// <summary>Whether a receiver has had it; not, where it was only passed by.</summary>
        public bool WasTried { get; init; } = true;

        /// <summary>1 where it was an attempt that does not count.</summary>
        public int Uncounted => !Counts && WasTried ? 1 : 0;
    }

    /// <summary>The event is set aside as a dead letter.</summary>
    /// <param name="Reason">Why, in one line, for people.</param>
    /// <param name="Failure">The exception behind it, if there was one.</param>
    public sealed record Rejected(string Reason, Failure? Failure) : Outcome;
}
