using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.ByHand;

/// <summary>
/// Has running workers work otherwise, without a deployment. Each takes it up within two seconds while it has something
/// to do, and says so in the broker's register (<see cref="WorkerFigures.Heard"/>, <see cref="ReceiverFigures"/>).
/// Thread-safe; throws <see cref="CourierException"/> where the broker cannot be reached or used, or has no register.
/// </summary>
public interface IWorkers
{
    /// <summary>
    /// Has workers receive from a queue otherwise, those that begin later as well. What was said of the same before is
    /// replaced; what is said of one worker goes before what is said of all.
    /// </summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="steering">How.</param>
    /// <param name="by">Who wants it, for people: findings say it.</param>
    /// <param name="why">Why, for people.</param>
    /// <param name="worker">One, by its <see cref="WorkerFigures.Id"/>; null: all.</param>
    /// <param name="duration">For how long, 1 second to 365 days; null: a day.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <exception cref="ArgumentException">It could not be a setting of any worker.</exception>
    Task SteerAsync(string queue, Steering steering, string by, string? why = null, string? worker = null,
        TimeSpan? duration = null, CancellationToken cancellationToken = default);

    /// <summary>Has workers receive as their settings say; what is said of others stays.</summary>
    /// <param name="queue">The queue; it must exist.</param>
    /// <param name="worker">One, by its <see cref="WorkerFigures.Id"/>; null: what was said of all.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task EndSteeringAsync(string queue, string? worker = null, CancellationToken cancellationToken = default);

    /// <summary>
    /// Has a worker finish what it has, give back what it has not begun, and take no more, from any queue. That ends
    /// with its process: one that is started in its place works as usual.
    /// </summary>
    /// <param name="worker">By its <see cref="WorkerFigures.Id"/>.</param>
    /// <param name="by">Who wants it, for people: findings say it.</param>
    /// <param name="why">Why, for people.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task DrainAsync(string worker, string by, string? why = null, CancellationToken cancellationToken = default);

    /// <summary>Has a worker work again.</summary>
    /// <param name="worker">By its <see cref="WorkerFigures.Id"/>.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task EndDrainingAsync(string worker, CancellationToken cancellationToken = default);
}

internal sealed class Workers(IBroker broker) : IWorkers
{
    private readonly IInstructions orders = Orders.Of(broker);

    public Task SteerAsync(string queue, Steering steering, string by, string? why, string? worker,
        TimeSpan? duration, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(queue);
        ArgumentNullException.ThrowIfNull(steering);
        if (steering.Problems().FirstOrDefault() is { } problem) throw new ArgumentException(problem, nameof(steering));
        var time = duration ?? Orders.SteeringFor;
        Orders.Check(time);
        return orders.SteerAsync(queue, worker, steering, time, Orders.Note(by, why), cancellationToken);
    }

    public Task EndSteeringAsync(string queue, string? worker, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(queue);
        return orders.EndSteeringAsync(queue, worker, cancellationToken);
    }

    public Task DrainAsync(string worker, string by, string? why, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(worker);
        return orders.DrainAsync([worker], Orders.Note(by, why), cancellationToken);
    }

    public Task EndDrainingAsync(string worker, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(worker);
        return orders.EndDrainingAsync([worker], cancellationToken);
    }
}

/// <summary>What all orders by hand have in common.</summary>
internal static class Orders
{
    /// <summary>For so long workers are steered, where nobody says how long.</summary>
    public static readonly TimeSpan SteeringFor = TimeSpan.FromDays(1);

    public static readonly TimeSpan Shortest = TimeSpan.FromSeconds(1), Longest = TimeSpan.FromDays(365);

    // A name or a reason that is longer is none, and each finding would have it.
    private const int LongestBy = 100, LongestWhy = 500;

    public static IInstructions Of(IBroker broker) => broker.Services.Instructions ?? throw new CourierException(
        $"{broker.DisplayName} takes no orders by hand: it hands over by itself, and there is no store beside it in "
        + "which its receivers could find them; give them one (Courier:Store)");

    public static HandNote Note(string by, string? why)
    {
        ArgumentException.ThrowIfNullOrWhiteSpace(by);
        return new HandNote(Cut(by, LongestBy), string.IsNullOrWhiteSpace(why) ? null : Cut(why, LongestWhy));
    }

    public static void Check(TimeSpan duration)
    {
        if (duration < Shortest || duration > Longest)
            throw new ArgumentOutOfRangeException(nameof(duration), duration, "it must be 1 second to 365 days");
    }

    private static string Cut(string text, int most) =>
        Words.Line(text) is { Length: var length } line && length > most ? line[..most] : Words.Line(text);
}
