using GentleCourier.Engines;

namespace GentleCourier.Watching;

/// <summary>How a broker and stores do, as far as they can be asked.</summary>
public sealed class CourierStatus(
    BrokerFigures? broker, IReadOnlyList<StoreFigures> stores, IReadOnlyList<Finding> unreachable)
{
    /// <summary>What the broker says; null where there is none, or it tells nothing.</summary>
    public BrokerFigures? Broker { get; } = broker;

    /// <summary>What the stores say.</summary>
    public IReadOnlyList<StoreFigures> Stores { get; } = stores;

    /// <summary>What could not be asked, and why, a finding each.</summary>
    public IReadOnlyList<Finding> Unreachable { get; } = unreachable;

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
public sealed class StoreFigures(string store, OutboxFigures outbox)
{
    /// <summary>Its address, without a secret, or its name where it has one.</summary>
    public string Store { get; } = store;

    /// <summary>How its outbox does.</summary>
    public OutboxFigures Outbox { get; } = outbox;

    /// <summary>
    /// The copies of the last day that came with other data than the event of their source and id that was handled;
    /// null: there were none.
    /// </summary>
    public OtherDataFigures? OtherData { get; init; }
}

/// <summary>Copies that came with other data than what was handled under their source and id.</summary>
public sealed class OtherDataFigures(
    int events, string queue, string source, string id, string handled, string other, TimeSpan age)
{
    /// <summary>How many events had such a copy; 1,000 stands for that and more.</summary>
    public int Events { get; } = events;

    /// <summary>The queue of the last one.</summary>
    public string Queue { get; } = queue;

    /// <summary>Its source.</summary>
    public string Source { get; } = source;

    /// <summary>Its id.</summary>
    public string Id { get; } = id;

    /// <summary>The hash of the type and data that were handled, as 8 hexadecimal digits.</summary>
    public string Handled { get; } = handled;

    /// <summary>The hash of the type and data of the last copy with others, as 8 hexadecimal digits.</summary>
    public string Other { get; } = other;

    /// <summary>How long ago that came.</summary>
    public TimeSpan Age { get; } = age;

    /// <summary>Beyond this number they are not counted: 1,000.</summary>
    public static int MostEvents => 1_000;

    /// <summary>For so long a copy is spoken of: a day.</summary>
    public static TimeSpan Memory { get; } = TimeSpan.FromDays(1);

    internal static string HashOf(int hash) => hash.ToString("x8", System.Globalization.CultureInfo.InvariantCulture);
}

internal sealed class StatusReader(IBroker? broker, IStorePort? store) : ICourierStatus
{
    public Task<CourierStatus> ReadAsync(CancellationToken cancellationToken) =>
        CourierStatus.ReadAsync(broker, store is null ? [] : [(store.DisplayName, store)], cancellationToken);
}
