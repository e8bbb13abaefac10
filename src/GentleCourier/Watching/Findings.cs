using System.Globalization;

namespace GentleCourier.Watching;

/// <summary>
/// What goes wrong, or will, by the figures of a broker and of stores. Pure computation: it knows what it is given, and
/// says nothing of what is unknown.
/// </summary>
internal static class Findings
{
    /// <summary>Of a broker.</summary>
    public static IReadOnlyList<Finding> Of(BrokerFigures broker)
    {
        ArgumentNullException.ThrowIfNull(broker);
        var workers = broker.Workers;
        return
        [
            .. broker.Queues.SelectMany(ByHandFindings.OfQueue),
            .. workers is null ? [] : ByHandFindings.OfWorkers(broker.Instructions, workers),
            .. QueueStatus.Of(broker).SelectMany(q => About(q.Figures.Queue, QueueFindings.Of(q, workers))),
            .. (workers ?? []).SelectMany(w => w.Receivers.SelectMany(r =>
                About($"{w.Worker} on {r.Queue}", WorkerFindings.OfReceiver(w, r, broker.Queues)))),
            .. workers is null ? [] : WorkerFindings.OfAll(workers, broker.Queues),
        ];
    }

    /// <summary>Of a store.</summary>
    /// <param name="store">Its address, without a secret.</param>
    /// <param name="outbox">How its outbox does.</param>
    public static IReadOnlyList<Finding> Of(string store, OutboxFigures outbox)
    {
        ArgumentNullException.ThrowIfNull(outbox);
        return [.. About(store, StoreFindings.Of(store, outbox))];
    }

    /// <summary>Of a store: its outbox, and its inbox.</summary>
    public static IReadOnlyList<Finding> Of(StoreFigures store)
    {
        ArgumentNullException.ThrowIfNull(store);
        return
        [
            .. Of(store.Store, store.Outbox),
            .. About(store.Store, StoreFindings.OfInbox(store.Store, store.OtherData)),
        ];
    }

    private static IEnumerable<Finding> About(string subject, IEnumerable<Finding> found) =>
        found.Select(f => new Finding(f.Code, f.IsWrong, f.What, f.Next, f.For) { Subject = subject });

    /// <summary>A time, in the largest unit that says enough.</summary>
    internal static string For(TimeSpan? time) => time is { } known ? known switch
    {
        { TotalMinutes: < 2 } => Say($"{known.TotalSeconds:0} s"),
        { TotalHours: < 2 } => Say($"{known.TotalMinutes:0} min"),
        { TotalDays: < 2 } => Say($"{known.TotalHours:0} h"),
        _ => Say($"{known.TotalDays:0} days"),
    } : "an unknown time";

    /// <summary>How far a clock is from another.</summary>
    internal static string Ahead(TimeSpan ahead) =>
        $"is {For(ahead.Duration())} {(ahead > TimeSpan.Zero ? "ahead of" : "behind")}";

    internal static string Say(FormattableString text) => text.ToString(CultureInfo.InvariantCulture);

    internal static string HowMany(long? count) => count == 1 ? "1 event" : Say($"{count:N0} events");

    internal static string Rate(double perSecond) => perSecond is > 0 and < 1
        ? Say($"{perSecond * 60:0.#} a minute")
        : perSecond < 10 ? Say($"{perSecond:0.#} a second") : Say($"{perSecond:#,0} a second");

    /// <summary>A number of which two digits are known.</summary>
    internal static string About(long number)
    {
        var unit = (long)Math.Pow(10, Math.Max(0, (int)Math.Log10(Math.Max(1, number)) - 1));
        return Say($"{Math.Round((double)number / unit) * unit:#,0}");
    }
}
