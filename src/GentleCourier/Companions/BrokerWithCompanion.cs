using System.Runtime.CompilerServices;
using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Companions;

/// <summary>
/// A broker that only hands over and takes back, with a companion in the receiving service's store for the rest. An
/// event that is handled at once never comes near the companion. One that fails, or that may have been begun before, is
/// taken over by it, and goes on there: with attempts that are counted, delays, dead letters and their way back. Who
/// receives is registered there, too.
/// </summary>
internal sealed class BrokerWithCompanion(
    IBroker broker, IBroker companion, TimeProvider clock, ILogger? logger = null) : IBroker
{
    /// <summary>Whether a broker lacks something that a companion has.</summary>
    public static bool IsNeededBy(IBroker broker) => !broker.Abilities.HasFlag(Given);

    private const BrokerAbilities Given =
        BrokerAbilities.Delays | BrokerAbilities.Attempts | BrokerAbilities.DeadLetters;

    public string DisplayName => broker.DisplayName;

    public BrokerAbilities Abilities => Given | (broker.Abilities & BrokerAbilities.Routes);

    public BrokerServices Services { get; } = companion.Services with
    {
        Reports = new ReportsWithCompanions(broker, [companion], []), Stamps = broker.Stamps, Depths = broker.Depths,
        TakeOver = null, Companion = companion, Examination = new ExaminedTogether(broker, companion),
        Database = broker.Services.Database,
    };

    public async Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken)
    {
        await broker.PrepareAsync(topology, create, cancellationToken).ConfigureAwait(false);
        // Nothing is published to it by type: it gets what is taken over for a queue.
        await companion.PrepareAsync(new Topology(topology.Queues, []), create, cancellationToken)
            .ConfigureAwait(false);
    }

    public Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) =>
        broker.PublishAsync(events, cancellationToken);

    public async Task<IReceivingLink> OpenLinkAsync(
        string queue, string worker, TimeSpan lease, CancellationToken cancellationToken)
    {
        var link = await broker.OpenLinkAsync(queue, worker, lease, cancellationToken).ConfigureAwait(false);
        return new LinkWithCompanion(link, broker.Depths, companion, queue, worker, clock, logger);
    }

    public async ValueTask DisposeAsync()
    {
        await broker.DisposeAsync().ConfigureAwait(false);
        await companion.DisposeAsync().ConfigureAwait(false);
    }

    /// <summary>Both are looked over, one after the other.</summary>
    private sealed class ExaminedTogether(params IBroker[] parts) : IExaminable
    {
        public async IAsyncEnumerable<Check> ExamineAsync([EnumeratorCancellation] CancellationToken cancellationToken)
        {
            foreach (var part in parts.Select(p => p.Services.Examination).OfType<IExaminable>())
                await foreach (var check in part.ExamineAsync(cancellationToken).ConfigureAwait(false))
                    yield return check;
        }
    }
}
