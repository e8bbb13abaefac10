using System.Runtime.CompilerServices;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Watching;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// A broker that is reached by AMQP 1.0. What is published and what is received goes over connections of their own: a
/// broker that stops to read what comes must still hear what has become of what it has sent.
/// </summary>
internal sealed class AmqpBroker : IBroker, IBrokerReports, IDepths, IExaminable
{
    private readonly AmqpAddress address;
    private readonly Connections publishing, receiving;
    private readonly Publisher publisher;
    private readonly Looks looks;
    private readonly Depths depths;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private BrokerServices? services;
    private volatile Topology known = Topology.Empty;

    public AmqpBroker(AmqpAddress address, TimeProvider clock, ILogger? logger = null)
    {
        (this.address, this.clock, this.logger) = (address, clock, logger ?? NullLogger.Instance);
        // How long a peer is silent is a matter of the network, whatever time it is for the services.
        publishing = new Connections(address, TimeProvider.System, logger);
        receiving = new Connections(address, TimeProvider.System, logger);
        publisher = new Publisher(publishing);
        looks = new Looks(receiving, address);
        depths = new Depths(looks);
    }

    public string DisplayName => address.DisplayName;

    /// <summary>Attempts and dead letters travel in messages, for those who have no store.</summary>
    public BrokerAbilities Abilities => address.DeadLetterAddress is null
        ? BrokerAbilities.Attempts : BrokerAbilities.Attempts | BrokerAbilities.DeadLetters;

    public BrokerServices Services => services ??= new() { Reports = this, Depths = this, Examination = this };

    /// <summary>Looks whether queues are there; to make them is their operator's work.</summary>
    public async Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken)
    {
        known = topology;
        string[] queues = [.. topology.Queues];
        var areThere = await depths.AreThereAsync(queues, cancellationToken).ConfigureAwait(false);
        var missing = queues.Where((_, i) => !areThere[i]).ToList();
        if (missing.Count == 0) return;
        throw new CourierException(
            $"{string.Join(", ", missing.Select(q => $"queue '{q}' ('{address.Of(q)}')"))} does not exist in "
            + $"{DisplayName}, or {address.User ?? "this program"} may not receive from it; declare it by the broker's "
            + "own means (`courier schema print broker --engine amqp` says how), and check how the address says that "
            + "the broker names queues (queue=…{queue})");
    }

    public async Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
    {
        var results = new PublishResult[events.Count];
        var places = new Dictionary<string, List<int>>(StringComparer.Ordinal);
        for (var i = 0; i < results.Length; i++)
        {
            if (Routing.TooLarge(events[i], DisplayName) is { } reason)
                results[i] = PublishResult.Refused(reason);
            else if (events[i].Address is not { } place)
                results[i] = PublishResult.Deferred("nobody has said to which queue it goes");
            else if (places.TryGetValue(place, out var there))
                there.Add(i);
            else
                places.Add(place, [i]);
        }
        await Task.WhenAll(places.Select(PublishToAsync)).ConfigureAwait(false);
        return results;

        async Task PublishToAsync(KeyValuePair<string, List<int>> place)
        {
            int[] mine = [.. place.Value];
            var sent = await publisher.SendAsync(
                address.Of(place.Key), Names.IsQueue(place.Key),
                Array.ConvertAll(mine, i => new Publication(events[i].Json, default)), cancellationToken)
                .ConfigureAwait(false);
            for (var i = 0; i < mine.Length; i++) results[mine[i]] = Publisher.ResultOf(sent, i);
        }
    }

    public async Task<IReceivingLink> OpenLinkAsync(
        string queue, string worker, TimeSpan lease, CancellationToken cancellationToken)
    {
        // Of its own: a peer may give to others what was not settled only when the session ends.
        var session = await receiving.BeginSessionAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            var link = await session.AttachReceiverAsync(
                $"{worker} {queue} {Guid.NewGuid():n}", address.Of(queue), cancellationToken).ConfigureAwait(false);
            depths.Receives(queue, link);
            return new AmqpLink(session, link, publisher, address, queue, logger);
        }
        catch
        {
            await session.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    public Task<Topology> ReadTopologyAsync(CancellationToken cancellationToken) => Task.FromResult(known);

    public async Task<BrokerFigures> ReadFiguresAsync(CancellationToken cancellationToken)
    {
        string[] queues = [.. known.Queues.Order(StringComparer.Ordinal)];
        var waiting = await ReadDepthsAsync(queues, cancellationToken).ConfigureAwait(false);
        return new BrokerFigures(
            DisplayName, clock.GetUtcNow(),
            [.. queues.Select((queue, i) => new QueueFigures(queue, waiting[i], null, null, null, null))], null);
    }

    public Task<IReadOnlyList<long?>> ReadDepthsAsync(
        IReadOnlyList<string> queues, CancellationToken cancellationToken) =>
        depths.ReadAsync(queues, cancellationToken);

    public Task<QueueLook> LookAsync(
        string queue, int limit, string? beyond, CancellationToken cancellationToken) =>
        throw new CourierException(
            $"{DisplayName} cannot show the events of queue '{queue}' without handing them over");

    public async IAsyncEnumerable<Check> ExamineAsync([EnumeratorCancellation] CancellationToken cancellationToken)
    {
        Check check;
        try
        {
            await receiving.GetAsync(cancellationToken).ConfigureAwait(false);
            check = Check.Good("reached", $"as {address.User ?? "nobody by name"}"
                + (address.IsSecure ? ", over TLS" : ", without TLS"));
        }
        catch (CourierException e)
        {
            check = Check.Wrong("reached", e.Message);
        }
        yield return check;
    }

    public async ValueTask DisposeAsync()
    {
        await publishing.DisposeAsync().ConfigureAwait(false);
        await publisher.DisposeAsync().ConfigureAwait(false);
        await receiving.DisposeAsync().ConfigureAwait(false);
        looks.Dispose();
    }
}
