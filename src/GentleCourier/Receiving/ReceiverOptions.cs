using System.Globalization;
using GentleCourier.ByHand;

namespace GentleCourier;

/// <summary>
/// How one queue is received. Settings: <c>Courier:Receivers:{queue}:…</c>, which go before what the code says.
/// </summary>
public sealed class ReceiverOptions
{
    private const int MostHeld = 100_000;

    private Prefetch? prefetch;

    /// <summary>
    /// How many unsettled deliveries this worker may hold, 1 to 100,000, or <see cref="Prefetch.SelfTuned"/>, or
    /// <see cref="Prefetch.Unlimited"/>. Small is fair, large is fast for short work: with 1, a worker busy with a long
    /// job gets nothing more, and others stay busy. At least <see cref="Parallel"/> times <see cref="BatchSize"/>;
    /// where it is not set, twice that, and 20 or more.
    /// </summary>
    public Prefetch Prefetch
    {
        get => prefetch ?? (int)Math.Clamp(2L * Parallel * BatchSize, 20, MostHeld);
        set => prefetch = value;
    }

    /// <summary>How many handlers run at the same moment, 1 to 1,000.</summary>
    public int Parallel { get; set; } = 1;

    /// <summary>
    /// Whether the events of one partition key are handled one at a time and in their order, whichever worker of the
    /// queue takes them: one that fails keeps those behind it waiting until it is handled or set aside. Others are not
    /// kept waiting. It is a property of the queue: once one worker has asked for it, it holds for all.
    /// </summary>
    public bool InKeyOrder { get; set; }

    /// <summary>
    /// How many events a receiver of batches gets at once at the most, 1 to 1,000. Without effect on a queue where all
    /// receivers take single events; where some do, their events wait along with the batch.
    /// </summary>
    public int BatchSize { get; set; } = 1;

    /// <summary>For how long a batch waits to become full, from its first event on, 0 to 1 minute.</summary>
    public TimeSpan BatchWait { get; set; } = TimeSpan.FromMilliseconds(50);

    /// <summary>
    /// How long a handler may take, 1 millisecond to 1 day; null: as long as it likes. Then its token is cancelled, the
    /// attempt counts as failed, and nothing that it still does in its transaction has an effect.
    /// </summary>
    public TimeSpan? TimeLimit { get; set; }

    /// <summary>
    /// When deliveries are settled. With <see cref="Settling.OnArrival"/> an event whose handler fails is lost.
    /// </summary>
    public Settling Settling { get; set; } = Settling.AfterHandling;

    /// <summary>
    /// What becomes of an event that comes with other data than what was handled under its source and id. It is counted
    /// and said in either case. Without an inbox it is handled.
    /// </summary>
    public OtherData OnOtherData { get; set; } = OtherData.Absorb;

    /// <summary>
    /// After how many failed attempts an event is set aside, 1 to 1,000. A worker that dies of an event counts as one.
    /// What fails around the receivers, such as a store that is away, does not.
    /// </summary>
    public int MaxAttempts { get; set; } = 12;

    /// <summary>
    /// How many of the attempts after the first come at once, as far as there are so many; 0 to 1,000. The further ones
    /// wait.
    /// </summary>
    public int RetriesAtOnce { get; set; } = 2;

    /// <summary>
    /// Bound of the first wait between attempts, up to a day; the others grow evenly from it to
    /// <see cref="MaxDelay"/>, each by the same factor. A wait is between half of its bound and all of it. 0: all
    /// attempts come at once.
    /// </summary>
    public TimeSpan FirstDelay { get; set; } = TimeSpan.FromSeconds(1);

    /// <summary>
    /// Bound of the last wait between attempts, at least <see cref="FirstDelay"/>, at most 7 days. As the options are
    /// set here, an event is tried for about three hours.
    /// </summary>
    public TimeSpan MaxDelay { get; set; } = TimeSpan.FromHours(3);

    /// <summary>
    /// When so many different events of a type have failed alike, with no success between, the brake is on: one at a
    /// time is tried, more and more rarely, until one succeeds; and what fails alike does not count. 0: never, up to
    /// 1,000.
    /// </summary>
    /// <remarks>
    /// A <see cref="RetryException"/> is none of these failures; of rejections it takes four times as many; and with
    /// <see cref="Settling.OnArrival"/> there is no brake. What fails around all events, such as the store, brakes the
    /// queue whatever is set here.
    /// </remarks>
    public int BrakeAfter { get; set; } = 5;

    /// <summary>
    /// For how long, from its first attempt on, an event comes again without counting while it seems not to be at
    /// fault: while a brake is on, and where its type is not known here, as in a deployment whose old instances still
    /// run. Then its attempts count, and a type that is still unknown is set aside. 0 to 365 days.
    /// </summary>
    public TimeSpan Patience { get; set; } = TimeSpan.FromDays(1);

    /// <summary>
    /// How many events this worker begins to handle in a second, at the most and evenly, for what stands behind its
    /// receivers; each worker of a queue has a limit of its own. Null: as many as it can; 0.001 to 1,000,000.
    /// </summary>
    public double? MaxPerSecond { get; set; }

    /// <summary>
    /// An event that fails is set aside if it would be older than this at its next attempt; null: however old. 1 second
    /// to 365 days. Its age is what it has waited in the outbox, by the store's clock, and since it came to the broker,
    /// by that one's; over AMQP 1.0 it counts from when the event was first handed over. One that is sent back counts
    /// anew.
    /// </summary>
    public TimeSpan? MaxAge { get; set; }

    /// <summary>
    /// For how long a delivery belongs to this worker; it is renewed while the worker lives. After a crash the worker's
    /// deliveries go to others when it ends. 1 second to 1 hour.
    /// </summary>
    public TimeSpan Lease { get; set; } = TimeSpan.FromSeconds(30);

    /// <summary>
    /// How long running handlers may take to finish when the host stops; their token is cancelled then. 0 to 1 hour.
    /// Keep the host's own <c>ShutdownTimeout</c> above it.
    /// </summary>
    public TimeSpan StopLimit { get; set; } = TimeSpan.FromSeconds(10);

    /// <summary>
    /// Whether handled events are kept in the store's inbox, so that a second copy has no effect. Turn it off only for
    /// handlers that bear being repeated.
    /// </summary>
    public bool Inbox { get; set; } = true;

    /// <summary>
    /// For how long what was set aside is kept, whether anybody has looked at it or not; null: for ever. At least an
    /// hour. All workers of the queue should say the same.
    /// </summary>
    public TimeSpan? KeepDeadLetters { get; set; }

    /// <summary>These, but for what was said by hand.</summary>
    internal ReceiverOptions With(Steering steering)
    {
        var steered = (ReceiverOptions)MemberwiseClone();
        if (steering.Prefetch is { } held) steered.Prefetch = held;
        steered.Parallel = steering.Parallel ?? Parallel;
        steered.MaxPerSecond = steering.MaxPerSecond ?? MaxPerSecond;
        steered.BrakeAfter = steering.BrakeAfter ?? BrakeAfter;
        return steered;
    }

    /// <summary>What is said by hand where these are what came of it.</summary>
    internal Steering From(ReceiverOptions settings) => new()
    {
        Prefetch = Prefetch == settings.Prefetch ? null : Prefetch,
        Parallel = Parallel == settings.Parallel ? null : Parallel,
        MaxPerSecond = MaxPerSecond == settings.MaxPerSecond ? null : MaxPerSecond,
        BrakeAfter = BrakeAfter == settings.BrakeAfter ? null : BrakeAfter,
    };

    internal IEnumerable<string> Problems()
    {
        if (Prefetch is { IsSelfTuned: false, IsUnlimited: false, Count: < 1 or > MostHeld })
            yield return $"Prefetch must be 1 to 100,000, self-tuned or unlimited, but is {Prefetch}";
        if (Parallel is < 1 or > 1_000) yield return $"Parallel must be 1 to 1,000, but is {Parallel}";
        if (BatchSize is < 1 or > 1_000) yield return $"BatchSize must be 1 to 1,000, but is {BatchSize}";
        if (Prefetch is { IsSelfTuned: false, IsUnlimited: false } && Prefetch.Count < Parallel * BatchSize)
            yield return $"Prefetch must be at least Parallel times BatchSize ({Parallel} x {BatchSize}), but is "
                + $"{Prefetch}";
        if (BatchWait < TimeSpan.Zero || BatchWait > TimeSpan.FromMinutes(1))
            yield return $"BatchWait must be 0 to 1 minute, but is {BatchWait}";
        if (TimeLimit is { } limit && (limit < TimeSpan.FromMilliseconds(1) || limit > TimeSpan.FromDays(1)))
            yield return $"TimeLimit must be 1 millisecond to 1 day, but is {limit}";
        if (!Enum.IsDefined(Settling)) yield return $"Settling must be AfterHandling or OnArrival, but is {Settling}";
        if (!Enum.IsDefined(OnOtherData)) yield return $"OnOtherData must be Absorb or SetAside, but is {OnOtherData}";
        if (MaxAttempts is < 1 or > 1_000) yield return $"MaxAttempts must be 1 to 1,000, but is {MaxAttempts}";
        if (RetriesAtOnce is < 0 or > 1_000) yield return $"RetriesAtOnce must be 0 to 1,000, but is {RetriesAtOnce}";
        if (FirstDelay < TimeSpan.Zero || FirstDelay > TimeSpan.FromDays(1))
            yield return $"FirstDelay must be 0 to a day, but is {FirstDelay}";
        if (MaxDelay < FirstDelay || MaxDelay > TimeSpan.FromDays(7))
            yield return $"MaxDelay must be FirstDelay ({FirstDelay}) to 7 days, but is {MaxDelay}";
        if (BrakeAfter is < 0 or > 1_000) yield return $"BrakeAfter must be 0 to 1,000, but is {BrakeAfter}";
        if (Patience < TimeSpan.Zero || Patience > TimeSpan.FromDays(365))
            yield return $"Patience must be 0 to 365 days, but is {Patience}";
        if (MaxPerSecond is { } rate && !(rate is >= 0.001 and <= 1_000_000))
            yield return string.Create(
                CultureInfo.InvariantCulture, $"MaxPerSecond must be 0.001 to 1,000,000, but is {rate}");
        if (MaxAge is { } age && (age < TimeSpan.FromSeconds(1) || age > TimeSpan.FromDays(365)))
            yield return $"MaxAge must be 1 second to 365 days, but is {age}";
        if (KeepDeadLetters < RetentionOptions.Shortest)
            yield return $"KeepDeadLetters must be at least {RetentionOptions.Shortest}, or none, but is "
                + $"{KeepDeadLetters}";
        if (Lease < TimeSpan.FromSeconds(1) || Lease > TimeSpan.FromHours(1))
            yield return $"Lease must be 1 second to 1 hour, but is {Lease}";
        if (StopLimit < TimeSpan.Zero || StopLimit > TimeSpan.FromHours(1))
            yield return $"StopLimit must be 0 to 1 hour, but is {StopLimit}";
    }
}

/// <summary>What becomes of a copy that has other data than the one that was handled.</summary>
public enum OtherData
{
    /// <summary>
    /// It is a copy like any other: accepted, without an effect. A service that publishes again from its own tables may
    /// well find other values in them.
    /// </summary>
    Absorb,

    /// <summary>It becomes a dead letter, since it may be another event that was given the same id.</summary>
    SetAside,
}

/// <summary>When a delivery is settled.</summary>
public enum Settling
{
    /// <summary>When its handler has succeeded: at least once. Nothing is lost, a second copy may come.</summary>
    AfterHandling,

    /// <summary>
    /// Before its handler begins: at most once. What is in the hands of a worker that is killed is lost, and so is an
    /// event whose handler fails; no attempt is repeated and nothing becomes a dead letter for it. For events of which
    /// only the next matters, such as a position.
    /// </summary>
    OnArrival,
}
