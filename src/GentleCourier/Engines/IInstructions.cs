using GentleCourier.ByHand;
using GentleCourier.Watching;

namespace GentleCourier.Engines;

/// <summary>
/// What has been ordered by hand for those who receive from a broker, until it is taken back or its time is over.
/// Thread-safe; throws <see cref="CourierException"/> where the broker cannot be reached.
/// </summary>
internal interface IInstructions
{
    /// <summary>What stands at this moment.</summary>
    /// <param name="known">
    /// What the caller knows already, by its <see cref="Standing.Number"/>; below 0 where it knows nothing.
    /// </param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>Null where nothing has been ordered since.</returns>
    Task<Standing?> ReadAsync(long known, CancellationToken cancellationToken = default);

    /// <summary>
    /// Ends when something is announced after this call: to be taken before reading. Announcements can be lost.
    /// </summary>
    Task Announced { get; }

    /// <summary>Waits for what is announced.</summary>
    /// <param name="announced">What was taken before.</param>
    /// <param name="limit">At the latest after this time.</param>
    /// <param name="isKeen">Whether to go to some expense to hear of it.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task WaitAsync(Task announced, TimeSpan limit, bool isKeen, CancellationToken cancellationToken = default);

    /// <summary>
    /// Nothing of a queue is handed over from now on, whatever stood before; what is handed over already, workers give
    /// back.
    /// </summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="duration">For how long; null: until it is resumed.</param>
    /// <param name="note">By whom, and why.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>The number by which workers say that they know it.</returns>
    Task<long> PauseAsync(
        string queue, TimeSpan? duration, HandNote note, CancellationToken cancellationToken = default);

    /// <summary>Ends a pause; where there is none, nothing.</summary>
    /// <inheritdoc cref="PauseAsync"/>
    Task<long> ResumeAsync(string queue, CancellationToken cancellationToken = default);

    /// <summary>Has workers receive from a queue otherwise.</summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="worker">One, by its <see cref="Watching.WorkerFigures.Id"/>; null: all.</param>
    /// <param name="steering">How, in the place of what was said of them before.</param>
    /// <param name="duration">For how long.</param>
    /// <param name="note">By whom, and why.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>The number by which workers say that they know it.</returns>
    Task<long> SteerAsync(string queue, string? worker, Steering steering, TimeSpan duration, HandNote note,
        CancellationToken cancellationToken = default);

    /// <summary>Has workers receive as their settings say.</summary>
    /// <inheritdoc cref="SteerAsync"/>
    Task<long> EndSteeringAsync(string queue, string? worker, CancellationToken cancellationToken = default);

    /// <summary>Has workers finish what they have, and take no more.</summary>
    /// <param name="workers">Which, by their <see cref="Watching.WorkerFigures.Id"/>.</param>
    /// <param name="note">By whom, and why.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>The number by which workers say that they know it.</returns>
    Task<long> DrainAsync(
        IReadOnlyList<string> workers, HandNote note, CancellationToken cancellationToken = default);

    /// <summary>Has workers take more again.</summary>
    /// <inheritdoc cref="DrainAsync"/>
    Task<long> EndDrainingAsync(IReadOnlyList<string> workers, CancellationToken cancellationToken = default);
}

/// <summary>Who has ordered something, and why.</summary>
internal sealed record HandNote(string By, string? Why);

/// <summary>All that stands.</summary>
/// <param name="Number">It grows with every change.</param>
/// <param name="Pauses">Queues that are paused.</param>
/// <param name="Instructions">What workers are to do.</param>
internal sealed record Standing(
    long Number, IReadOnlyDictionary<string, Pause> Pauses, IReadOnlyList<Instruction> Instructions)
{
    /// <summary>Nothing.</summary>
    public static Standing Nothing { get; } = new(-1, new Dictionary<string, Pause>(), []);

    /// <summary>Whether a worker is to take no more.</summary>
    public bool IsDrained(string worker) => Instructions.Any(i => i.Worker == worker && i.Steering is null);

    /// <summary>How a worker is to receive from a queue, other than its settings say; null: as they say.</summary>
    public Steering? SteeringOf(string queue, string worker) => Instructions
        .Where(i => i.Queue == queue && i.Steering is not null && (i.Worker is null || i.Worker == worker))
        // What is said of one goes before what is said of all.
        .OrderBy(i => i.Worker is not null).Select(i => i.Steering)
        .Aggregate((Steering?)null, (all, one) => all is null ? one : all.Under(one!));

    /// <summary>Figures of a broker, with what stands there.</summary>
    public BrokerFigures Under(BrokerFigures figures) => new(
        figures.Broker, figures.At,
        [.. figures.Queues.Select(q => q with { Pause = Pauses.GetValueOrDefault(q.Queue) })], figures.Workers)
    {
        Instructions = Instructions,
    };

    /// <summary>What stands once so much time has passed.</summary>
    public Standing After(TimeSpan time) => new(
        Number, Pauses.Where(p => !(p.Value.Left <= time)).ToDictionary(StringComparer.Ordinal),
        [.. Instructions.Where(i => !(i.Left <= time))]);

    /// <summary>When the first of it ends by itself; null: nothing does.</summary>
    public TimeSpan? FirstEnd => Pauses.Values.Select(p => p.Left).Concat(Instructions.Select(i => i.Left)).Min();
}
