using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>In which order queues are listed.</summary>
internal enum QueueOrder
{
    Name,
    Waiting,
    Lag,
}

/// <summary>What somebody who watches sees and has chosen. Keys change it. Not thread-safe; no I/O.</summary>
internal sealed class View
{
    private static readonly TimeSpan LongestPast = TimeSpan.FromMinutes(10), ShortestPast = TimeSpan.FromMinutes(1);

    private readonly Dictionary<string, Queue<(DateTimeOffset At, long Waiting)>> looks = new(StringComparer.Ordinal);
    private int top, scrolled;
    private string? chosen;

    /// <summary>The last look that succeeded, or the first one; null before it.</summary>
    public CourierStatus? Status { get; private set; }

    /// <summary>When that was, by the clock of this host.</summary>
    public DateTimeOffset LookedAt { get; private set; }

    /// <summary>Why the last look failed; null where it did not.</summary>
    public string? Problem { get; private set; }

    public QueueOrder Order { get; private set; }

    /// <summary>The queue that is looked at closer; null: the list of all.</summary>
    public string? Closer { get; private set; }

    public bool IsClosed { get; private set; }

    /// <summary>Of the queue that is looked at closer.</summary>
    public QueueInside? Inside { get; set; }

    /// <summary>What was found then.</summary>
    public IReadOnlyList<Finding> Findings { get; private set; } = [];

    /// <summary>The queues in the order that was chosen.</summary>
    public IReadOnlyList<QueueStatus> Queues { get; private set; } = [];

    /// <summary>The place of the chosen queue in the list.</summary>
    public int Chosen => Math.Max(0, Queues.Select(q => q.Figures.Queue).ToList().IndexOf(chosen ?? ""));

    /// <summary>A look has ended; where the broker did not answer, what was seen before stays.</summary>
    public void See(CourierStatus status, DateTimeOffset at)
    {
        Problem = status.Unreachable.FirstOrDefault(f => f.Code == "broker-unreachable")?.What;
        if (Problem is not null && Status is not null) return;
        (Status, LookedAt, Findings) = (status, at, status.Findings);
        Sort();
        if (status.Broker is not { } broker) return;
        foreach (var queue in broker.Queues) Note(queue, broker.At);
        var first = broker.Queues.SelectMany(q => q.History.Take(1), (_, c) => c.At)
            .Concat(looks.Values.Select(past => past.Peek().At)).DefaultIfEmpty(broker.At).Min();
        var known = broker.At - first;
        Past = known < ShortestPast ? ShortestPast : known > LongestPast ? LongestPast : known;
    }

    /// <summary>As far back as curves go: ten minutes, or as far as anything is known.</summary>
    public TimeSpan Past { get; private set; } = ShortestPast;

    /// <summary>What waited in the last minutes: what the queue has counted, and what was seen.</summary>
    public double?[] CurveOf(QueueFigures queue, int places) => Curve.Of(
        Curve.Counted(queue.History).Concat(looks.GetValueOrDefault(queue.Queue) ?? []), Status!.Broker!.At, Past,
            places);

    private void Note(QueueFigures queue, DateTimeOffset at)
    {
        if (queue.Waiting is not { } waiting) return;
        if (!looks.TryGetValue(queue.Queue, out var past)) looks[queue.Queue] = past = [];
        past.Enqueue((at, waiting));
        while (at - past.Peek().At > LongestPast) past.Dequeue();
    }

    /// <summary>Which rows of a list are shown, so that the chosen one is among them.</summary>
    public int TopOf(int rows)
    {
        if (Chosen < top) top = Chosen;
        if (Chosen >= top + rows) top = Chosen - rows + 1;
        return top = Math.Clamp(top, 0, Math.Max(0, Queues.Count - rows));
    }

    /// <summary>The same for the lines of a page.</summary>
    public int ScrolledOf(int rows, int lines) => scrolled = Math.Clamp(scrolled, 0, Math.Max(0, lines - rows));

    /// <summary>A key was pressed.</summary>
    public void Press(ConsoleKeyInfo key, int page)
    {
        switch (key.Key)
        {
            case ConsoleKey.Q:
                IsClosed = true;
                break;
            case ConsoleKey.UpArrow:
                Move(-1);
                break;
            case ConsoleKey.DownArrow:
                Move(1);
                break;
            case ConsoleKey.PageUp:
                Move(-page);
                break;
            case ConsoleKey.PageDown:
                Move(page);
                break;
            case ConsoleKey.Home:
                Move(-int.MaxValue / 2);
                break;
            case ConsoleKey.End:
                Move(int.MaxValue / 2);
                break;
            case ConsoleKey.Enter or ConsoleKey.RightArrow when Closer is null && Queues.Count > 0:
                (Closer, Inside, scrolled) = (Queues[Chosen].Figures.Queue, null, 0);
                break;
            case ConsoleKey.Escape or ConsoleKey.LeftArrow or ConsoleKey.Backspace:
                Closer = null;
                break;
            case ConsoleKey.O when Closer is null:
                Order = (QueueOrder)(((int)Order + 1) % Enum.GetValues<QueueOrder>().Length);
                Sort();
                break;
            default:
                break;
        }
    }

    private void Move(int by)
    {
        if (Closer is not null) scrolled += by;
        else if (Queues.Count > 0) chosen = Queues[Math.Clamp(Chosen + by, 0, Queues.Count - 1)].Figures.Queue;
    }

    private void Sort()
    {
        var queues = Status?.Queues ?? [];
        Queues = Order switch
        {
            QueueOrder.Waiting => [.. queues.OrderByDescending(q => q.Figures.Waiting ?? 0)],
            QueueOrder.Lag => [.. queues.OrderByDescending(q => q.Lag ?? q.Figures.OldestAge ?? TimeSpan.Zero)],
            _ => queues,
        };
        chosen ??= Queues is [var first, ..] ? first.Figures.Queue : null;
    }
}

/// <summary>What is in a queue.</summary>
/// <param name="Queue">Which one.</param>
/// <param name="Oldest">The next ones.</param>
/// <param name="Letters">Its newest dead letters; null where the broker keeps none.</param>
/// <param name="LettersOf">How many there were when these were read.</param>
internal sealed record QueueInside(
    string Queue, IReadOnlyList<QueuedEvent> Oldest, IReadOnlyList<DeadLetter>? Letters, long? LettersOf)
{
    private const int OldestShown = 10, LettersRead = 200;

    /// <summary>Reads it; dead letters only where there are others than before.</summary>
    public static async Task<QueueInside> ReadAsync(
        IBroker broker, string queue, long? letters, QueueInside? before, CancellationToken cancel)
    {
        var oldest = await broker.Reports!.PeekAsync(queue, OldestShown, cancel);
        var known = before?.Queue == queue && before.LettersOf == letters ? before.Letters
            : broker.DeadLetters is { } kept ? await kept.ReadAsync(queue, LettersRead, cancellationToken: cancel)
                : null;
        return new(queue, oldest, known, letters);
    }
}
