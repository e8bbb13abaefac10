namespace GentleCourier.Watching;

/// <summary>What follows from the figures of a queue and of those who receive from it. Pure computation.</summary>
public sealed class QueueStatus(QueueFigures figures, IReadOnlyList<ReceiverFigures>? receivers)
{
    /// <summary>How full it is.</summary>
    public QueueFigures Figures { get; } = figures;

    /// <summary>How workers receive from it; null where the engine cannot know.</summary>
    public IReadOnlyList<ReceiverFigures>? Receivers { get; } = receivers;

    /// <summary>Within this time a backlog should be gone, for <see cref="WorkersNeeded"/>: five minutes.</summary>
    public static readonly TimeSpan GoodTime = TimeSpan.FromMinutes(5);

    /// <summary>How fast events come and go; null where that is not known.</summary>
    public QueueRates? Rates => QueueRates.Of(Figures.History);

    /// <summary>
    /// How far it is behind: about how long what comes now will wait, at the rate at which events are handled. (By
    /// Little's law; see <see cref="Watching.WorkersNeeded"/>.) Null where that is not known, or where events wait
    /// and nobody receives, or none is handled.
    /// </summary>
    public TimeSpan? Lag => (Figures.Waiting, Rates) switch
    {
        (0, _) => TimeSpan.Zero,
        _ when Receivers is { Count: 0 } => null,
        ({ } waiting, { Handled: > 0 } rates) when waiting / rates.Handled < TimeSpan.FromDays(10_000).TotalSeconds =>
            TimeSpan.FromSeconds(waiting / rates.Handled),
        _ => null,
    };

    /// <summary>Whether it will be empty, and when.</summary>
    public DrainForecast Forecast =>
        Figures.Waiting is { } waiting ? DrainForecast.Of(waiting, Rates) : new(Outlook.Unknown, null, null, null);

    /// <summary>How long handlers took, in the last minutes.</summary>
    public Histogram HandlingTimes => Merged(r => r.HandlingTimes);

    /// <summary>How long events had waited when their handling began, in the last minutes.</summary>
    public Histogram WaitingTimes => Merged(r => r.WaitingTimes);

    /// <summary>
    /// How busy the handlers of all workers were in the last seconds, 0 to 1; null where that is not known.
    /// </summary>
    public double? Utilisation => Receivers is { Count: > 0 } && Receivers.All(r => r.Utilisation is not null)
        ? Receivers.Sum(r => r.Utilisation!.Value * r.Parallel) / Receivers.Sum(r => r.Parallel) : null;

    /// <summary>
    /// At least so many workers like these keep up with what comes, and catch up within <see cref="GoodTime"/>; null
    /// where that is not known.
    /// </summary>
    public int? WorkersNeeded => Rates is { } rates && Figures.Waiting is { } waiting && Busy is { } busy
        ? Watching.WorkersNeeded.For(rates.Arrivals, busy, waiting, GoodTime) : null;

    // As long as each has enough to do, it is what all of them get done; otherwise what handlers say of themselves.
    private TimeSpan? Busy => Receivers is not { Count: > 0 } receivers ? null
        : Figures.Ready > 0 && Rates is { Handled: > 0 } rates ? TimeSpan.FromSeconds(receivers.Count / rates.Handled)
        : HandlingTimes.Mean / receivers.Average(r => r.Parallel);

    private Histogram Merged(Func<ReceiverFigures, Histogram?> times) =>
        (Receivers ?? []).Select(times).OfType<Histogram>().Aggregate(Histogram.Empty, (a, b) => a.With(b));

    /// <summary>Of each queue of a broker.</summary>
    public static IReadOnlyList<QueueStatus> Of(BrokerFigures broker)
    {
        ArgumentNullException.ThrowIfNull(broker);
        return [.. broker.Queues.Select(q => new QueueStatus(q, broker.Workers is null ? null
            : [.. broker.Workers.SelectMany(w => w.Receivers).Where(r => r.Queue == q.Queue)]))];
    }
}
