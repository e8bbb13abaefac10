using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Publishing;

/// <summary>
/// Publishes for the relay that leads, and stamps each publish, so that a broker that has lost something, or another
/// relay or store that publishes in this one's name, is noticed: when a term begins, after each failure, with each
/// publish, and now and then while there is nothing to publish. A broker that keeps no stamps is just published to. One
/// caller at a time.
/// </summary>
internal sealed partial class Stamper(IBroker broker, IRelayPort store, Lead lead, TimeProvider clock, ILogger logger)
{
    /// <summary>So often a broker is looked at while there is nothing to publish.</summary>
    private static readonly TimeSpan LookEvery = TimeSpan.FromMinutes(1);

    private readonly IStamps? stamps = broker.Stamps;
    // What is known in this term; null: it has to be looked at.
    private Known? known;
    private long term, drawn, lookedAt;

    /// <summary>
    /// What a broker has confirmed since the last mark, to be written down with the next; null: nothing.
    /// </summary>
    public Confirmation? Unmarked =>
        known is { } k && stamps is not null && k.Last != k.Marked ? k.Confirmation(k.Last) : null;

    /// <summary>
    /// Compares the broker with what the store remembers, where that has not been done in this term, or something has
    /// failed since.
    /// </summary>
    /// <returns>The term, which may have had to be raised; null: this relay does not lead any more.</returns>
    /// <exception cref="BrokerChangedException">It is not the one that it was.</exception>
    public async Task<long?> BeginAsync(long mine, CancellationToken cancellationToken)
    {
        if (stamps is null || (known is not null && term == mine)) return mine;
        if (term != mine) (term, drawn) = (mine, 0);
        var memory = await store.ReadConfirmedAsync(mine, cancellationToken).ConfigureAwait(false);
        if (memory is null) return null;
        var stamped = await stamps.ReadLastAsync(memory.Identity, cancellationToken).ConfigureAwait(false);
        var state = BrokerCheck.Of(memory, stamped);
        if (state is BrokerState.Another or BrokerState.FallenBehind)
            throw new BrokerChangedException(broker.DisplayName, state == BrokerState.Another);
        if (BrokerCheck.IsAhead(stamped.Last, term, drawn))
        {
            if (await lead.RaiseAsync(broker.DisplayName, term, stamped.Last.Term, cancellationToken)
                .ConfigureAwait(false) is not { } raised) return null;
            LogRaised(logger, broker.DisplayName, lead.Store, stamped.Last.Term, term, raised);
            (term, drawn) = (raised, 0);
        }
        if (state == BrokerState.New) LogNew(logger, broker.DisplayName, lead.Store);
        await LearnAsync(memory, stamped, state, cancellationToken).ConfigureAwait(false);
        return term;
    }

    /// <summary>Writes down which broker it is before anything is given to it, where that is not known.</summary>
    private async Task LearnAsync(
        StoreMemory memory, Stamped stamped, BrokerState state, CancellationToken cancellationToken)
    {
        var before = memory.Confirmed.Where(c => c.Generation == stamped.Generation).Select(c => (Stamp?)c.Stamp)
            .FirstOrDefault();
        var found = new Known(memory.Identity, stamped, before);
        if (state == BrokerState.New || (before is null && stamped.Last > default(Stamp)))
        {
            var mark = new OutboxMarks([], [], [], []) { By = found.Confirmation(stamped.Last) };
            await store.MarkAsync(term, mark, cancellationToken).ConfigureAwait(false);
            found = found with { Marked = stamped.Last };
        }
        (known, lookedAt) = (found, clock.GetTimestamp());
    }

    /// <summary>Publishes, where the broker is as it was left.</summary>
    /// <exception cref="BrokerChangedException">It is not.</exception>
    /// <exception cref="DeposedException">Another relay has published since, in a later term.</exception>
    public async Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
    {
        if (stamps is null) return await broker.PublishAsync(events, cancellationToken).ConfigureAwait(false);
        try
        {
            for (var isFirst = true; ; isFirst = false)
            {
                var (now, with) = (known!, new Stamp(term, ++drawn));
                try
                {
                    var results = await stamps.PublishAsync(
                        events, new(now.Store, now.Generation, now.Last, with), cancellationToken)
                        .ConfigureAwait(false);
                    (known, lookedAt) = (now with { Last = with }, clock.GetTimestamp());
                    return results;
                }
                // What this relay sent before, without an answer, may have been taken only now.
                catch (StampGoneException) when (isFirst)
                {
                    await LookAsync(cancellationToken).ConfigureAwait(false);
                }
            }
        }
        catch (Exception e) when (e is not CourierException { IsAboutContent: true })
        {
            known = null;
            throw;
        }
    }

    /// <summary>Looks at the broker, where that was not done for a time.</summary>
    public async Task LookIfItIsTimeAsync(CancellationToken cancellationToken)
    {
        if (known is null || stamps is null || clock.GetElapsedTime(lookedAt) < LookEvery) return;
        try
        {
            await LookAsync(cancellationToken).ConfigureAwait(false);
        }
        catch
        {
            known = null;
            throw;
        }
    }

    private async Task LookAsync(CancellationToken cancellationToken)
    {
        var now = known!;
        var stamped = await stamps!.ReadLastAsync(now.Store, cancellationToken).ConfigureAwait(false);
        if (stamped.Generation != now.Generation || stamped.Last < now.Last)
            throw new BrokerChangedException(broker.DisplayName, stamped.Generation != now.Generation);
        if (BrokerCheck.IsAhead(stamped.Last, term, drawn)) throw new DeposedException(broker.DisplayName);
        (known, lookedAt) = (now with { Last = stamped.Last }, clock.GetTimestamp());
    }

    /// <summary>What was unmarked is in the marks that are written next.</summary>
    public void Marking()
    {
        if (known is not null) known = known with { Marked = known.Last };
    }

    /// <summary>Something has failed: what is there now has to be looked at anew.</summary>
    public void Distrust() => known = null;

    /// <param name="Store">The store's identity.</param>
    /// <param name="Generation">The broker's.</param>
    /// <param name="Address">Where that is.</param>
    /// <param name="Last">The last publish that it has.</param>
    /// <param name="Marked">The last one that the store knows of; null: none of this broker.</param>
    private sealed record Known(string Store, string Generation, string Address, Stamp Last, Stamp? Marked)
    {
        public Known(string store, Stamped broker, Stamp? marked)
            : this(store, broker.Generation, broker.Address, broker.Last, marked)
        {
        }

        public Confirmation Confirmation(Stamp last) => new(new(Generation, Address, last), Marked);
    }

    [LoggerMessage(110, LogLevel.Warning,
        "{Broker} has publishes of {Store} in term {Last}, which is not before this one, {Term}: it seems that the "
        + "store was restored from a backup. The relay goes on in term {Raised}; what it publishes again is absorbed "
        + "by inboxes")]
    private static partial void LogRaised(
        ILogger logger, string broker, string store, long last, long term, long raised);

    [LoggerMessage(111, LogLevel.Warning,
        "{Broker} is another broker than the one that {Store} published to before, at another place: what has not been "
        + "handled there stays there. Once that is as it is to be, say `courier outbox accept-broker`")]
    private static partial void LogNew(ILogger logger, string broker, string store);
}

/// <summary>Another relay has published in a later term: this one's is over.</summary>
internal sealed class DeposedException(string broker)
    : CourierException($"another relay publishes to {broker} for this store: this one's term is over");
