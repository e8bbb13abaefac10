using GentleCourier.Engines;

namespace GentleCourier.Watching;

/// <summary>How a broker and stores do, as far as they can be asked.</summary>
/// <param name="Broker">What the broker says; null where there is none, or it tells nothing.</param>
/// <param name="Stores">What the stores say.</param>
/// <param name="Unreachable">What could not be asked, and why, a finding each.</param>
public sealed record CourierStatus(
    BrokerFigures? Broker, IReadOnlyList<StoreFigures> Stores, IReadOnlyList<Finding> Unreachable)
{
    /// <summary>What follows from the figures of each queue; empty without a broker.</summary>
    public IReadOnlyList<QueueStatus> Queues => Broker is null ? [] : QueueStatus.Of(Broker);

    /// <summary>What goes wrong, or is good to know; what is wrong first.</summary>
    public IReadOnlyList<Finding> Findings =>
    [
        .. Unreachable.Concat(Broker is null ? [] : Watching.Findings.Of(Broker))
            .Concat(Stores.SelectMany(Watching.Findings.Of))
            .OrderByDescending(f => f.IsWrong),
    ];

    /// <summary>
    /// Whether nothing waits in any queue or outbox, each at its moment. What travels between them meanwhile is missed:
    /// to be sure, look twice, and compare what came.
    /// </summary>
    public bool IsDrained => Unreachable.Count == 0 && Queues.All(q => q.Figures.Waiting == 0)
        && Stores.All(s => s.Outbox.Waiting == 0);

    /// <summary>
    /// Whether all was drained from the one look to the other. What was in no queue at the first look and in no outbox
    /// before the second one has come to a queue in between, or is handled.
    /// </summary>
    internal bool IsDrainedSince(CourierStatus earlier) =>
        earlier.IsDrained && IsDrained && Came.SequenceEqual(earlier.Came);

    private IEnumerable<long> Came => Broker?.Queues.Select(q => q.History is [.., var last] ? last.Came : 0) ?? [];

    /// <summary>
    /// Asks the stores, then the broker, in the order in which events travel; one that cannot be reached costs only its
    /// own figures.
    /// </summary>
    internal static async Task<CourierStatus> ReadAsync(
        IBroker? broker, IReadOnlyList<(string Name, IStorePort Port)> stores, CancellationToken cancellationToken)
    {
        var outboxes = await Task.WhenAll(stores.Select(store => TryAsync(
            async () => new StoreFigures(
                store.Name, await store.Port.ReadOutboxFiguresAsync(cancellationToken).ConfigureAwait(false))
            {
                OtherData = await store.Port.Inbox.ReadOtherDataAsync(cancellationToken).ConfigureAwait(false),
            },
            "store-unreachable", store.Name))).ConfigureAwait(false);
        var (figures, problem) = broker?.Reports is not { } reports ? (null, null) : await TryAsync(
            () => reports.ReadFiguresAsync(cancellationToken), "broker-unreachable", broker.DisplayName)
                .ConfigureAwait(false);
        return new CourierStatus(figures, [.. outboxes.Select(o => o.Read).OfType<StoreFigures>()],
            [.. outboxes.Select(o => o.Problem).Prepend(problem).OfType<Finding>()]);
    }

    private static async Task<(T? Read, Finding? Problem)> TryAsync<T>(
        Func<Task<T>> read, string code, string subject)
        where T : class
    {
        try
        {
            return (await read().ConfigureAwait(false), null);
        }
        catch (CourierException e)
        {
            return (null, new Finding(code, true, e.Message, "courier doctor") { Subject = subject });
        }
    }
}

/// <summary>What a store says.</summary>
/// <param name="Store">Its address, without a secret, or its name where it has one.</param>
/// <param name="Outbox">How its outbox does.</param>
public sealed record StoreFigures(string Store, OutboxFigures Outbox)
{
    /// <summary>
    /// The copies of the last day that came with other data than the event of their source and id that was handled;
    /// null: there were none.
    /// </summary>
    public OtherDataFigures? OtherData { get; init; }
}

/// <summary>Copies that came with other data than what was handled under their source and id.</summary>
/// <param name="Events">How many events had such a copy; 1,000 stands for that and more.</param>
/// <param name="Queue">The queue of the last one.</param>
/// <param name="Source">Its source.</param>
/// <param name="Id">Its id.</param>
/// <param name="Handled">The hash of the type and data that were handled, as 16 hexadecimal digits.</param>
/// <param name="Other">The same of the copy.</param>
/// <param name="Age">How long ago that came.</param>
public sealed record OtherDataFigures(
    int Events, string Queue, string Source, string Id, string Handled, string Other, TimeSpan Age)
{
    /// <summary>Beyond this number they are not counted: 1,000.</summary>
    public static int MostEvents => 1_000;

    /// <summary>For so long a copy is spoken of: a day.</summary>
    public static TimeSpan Memory { get; } = TimeSpan.FromDays(1);

    internal static string HashOf(long hash) => hash.ToString("x16", System.Globalization.CultureInfo.InvariantCulture);
}

internal sealed class StatusReader(IBroker? broker, IStorePort? store) : ICourierStatus
{
    public Task<CourierStatus> ReadAsync(CancellationToken cancellationToken) =>
        CourierStatus.ReadAsync(broker, store is null ? [] : [(store.DisplayName, store)], cancellationToken);
}
