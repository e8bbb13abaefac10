namespace GentleCourier.Testing;

/// <summary>
/// What a <see cref="Trial"/> does to every event once, for what must be harmless: a receiver that is idempotent ends
/// with the same effect. Each event meets each of them once a queue.
/// </summary>
[Flags]
public enum TrialFaults
{
    /// <summary>Nothing.</summary>
    None = 0,

    /// <summary>
    /// Each event reaches each queue a second time, as if the relay had been killed between publishing and its mark.
    /// </summary>
    PublishedTwice = 1,

    /// <summary>
    /// The receiver's first attempt ends after its work, before its commit: all that it did in its transaction is
    /// rolled back, and the event comes again at once.
    /// </summary>
    KilledBeforeCommit = 2,

    /// <summary>
    /// The receiver's work is committed, and the broker does not learn of it: the event comes again at once.
    /// </summary>
    AnswerLost = 4,

    /// <summary>All of them.</summary>
    All = PublishedTwice | KilledBeforeCommit | AnswerLost,
}
