using System.Runtime.CompilerServices;
using GentleCourier.Engines;

namespace GentleCourier.Companions;

/// <summary>
/// A broker and the companions of the services that receive from it, to be looked at and worked on by hand together. It
/// does not receive.
/// </summary>
internal sealed class BrokerInView(IBroker broker, IReadOnlyList<ServiceInView> companions)
    : IBroker, IExaminable, IRecount
{
    /// <summary>The services whose companions it is looked at with.</summary>
    public IReadOnlyList<ServiceInView> InView => companions;

    public string DisplayName => broker.DisplayName;

    public BrokerAbilities Abilities => broker.Abilities;

    public BrokerServices Services => broker.Services with
    {
        Reports = companions.Count == 0 ? null
            : new ReportsWithCompanions(
                broker, [.. companions.Select(c => c.Broker)], [.. companions.Select(c => c.Store.Routes)]),
        DeadLetters = companions switch
        {
            [] => null,
            [var only] => only.Broker.DeadLetters,
            _ => new LettersOfCompanions([.. companions.Select(c => (c.Name, c.Broker))]),
        },
        Housekeeping = null, Register = null, Stamps = null, TakeOver = null, Companion = null,
        Examination = this, Recount = this,
    };

    public async Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken)
    {
        if (companions.Count > 1 && topology.Queues.Count > 0)
            throw new CourierException(
                $"name the one store of those who receive from {string.Join(", ", topology.Queues)}; there are "
                + string.Join(", ", companions.Select(c => c.Name)));
        await broker.PrepareAsync(topology with { Routes = [] }, create, cancellationToken).ConfigureAwait(false);
        foreach (var (_, companion, _) in companions)
            await companion.PrepareAsync(topology with { Routes = [] }, create, cancellationToken)
                .ConfigureAwait(false);
    }

    public Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) =>
        broker.PublishAsync(events, cancellationToken);

    public Task<IReceivingLink> OpenLinkAsync(
        string queue, string worker, TimeSpan lease, CancellationToken cancellationToken) =>
        throw new NotSupportedException("it is only looked at");

    public async IAsyncEnumerable<Check> ExamineAsync([EnumeratorCancellation] CancellationToken cancellationToken)
    {
        if (broker.Services.Examination is { } itself)
        {
            await foreach (var check in itself.ExamineAsync(cancellationToken).ConfigureAwait(false))
                yield return check;
        }
        foreach (var (name, companion, _) in companions)
        {
            if (companion.Services.Examination is not { } part) continue;
            if (!await IsThereAsync(companion, cancellationToken).ConfigureAwait(false))
            {
                yield return Check.Note(
                    $"companion ({name})", "there is none: the service has not received anything by this broker");
                continue;
            }
            await foreach (var check in part.ExamineAsync(cancellationToken).ConfigureAwait(false))
                yield return check with { Name = $"{check.Name} ({name})" };
        }
    }

    public async Task<long> EstimateRowsAsync(CancellationToken cancellationToken)
    {
        var rows = 0L;
        foreach (var (_, companion) in Counting)
            rows += await companion.EstimateRowsAsync(cancellationToken).ConfigureAwait(false);
        return rows;
    }

    public async Task<IReadOnlyList<Recounted>> RecountAsync(TimeSpan within, CancellationToken cancellationToken)
    {
        var counted = new List<Recounted>();
        foreach (var (name, companion) in Counting)
        {
            foreach (var queue in await companion.RecountAsync(within, cancellationToken).ConfigureAwait(false))
                counted.Add(companions.Count == 1 ? queue : queue with { Queue = $"{queue.Queue} ({name})" });
        }
        return counted;
    }

    private IEnumerable<(string Name, IRecount Companion)> Counting =>
        companions.Where(c => c.Broker.Services.Recount is not null)
            .Select(c => (c.Name, c.Broker.Services.Recount!));

    private static async Task<bool> IsThereAsync(IBroker companion, CancellationToken cancellationToken)
    {
        try
        {
            await (companion.Reports?.ReadTopologyAsync(cancellationToken) ?? Task.CompletedTask).ConfigureAwait(false);
            return true;
        }
        catch (CourierException e)
        {
            // Whatever else is wrong with it, its own examination says better.
            return !e.IsAboutTables;
        }
    }

    public async ValueTask DisposeAsync()
    {
        await broker.DisposeAsync().ConfigureAwait(false);
        foreach (var (_, companion, store) in companions)
        {
            await companion.DisposeAsync().ConfigureAwait(false);
            await store.DisposeAsync().ConfigureAwait(false);
        }
    }
}
