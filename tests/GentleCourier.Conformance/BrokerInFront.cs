using GentleCourier.Engines;

namespace GentleCourier.Conformance;

/// <summary>Stands before a broker and passes everything on; a test says what it does otherwise.</summary>
internal abstract class BrokerInFront(IBroker inner) : IBroker
{
    public string DisplayName => Inner.DisplayName;

    public BrokerAbilities Abilities => Inner.Abilities;

    public virtual BrokerServices Services => Inner.Services;

    protected IBroker Inner { get; } = inner;

    public virtual Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken) =>
        Inner.PrepareAsync(topology, create, cancellationToken);

    public virtual Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken) =>
        Inner.PublishAsync(events, cancellationToken);

    public virtual Task<IReceivingLink> OpenLinkAsync(
        string queue, string worker, TimeSpan lease, CancellationToken cancellationToken) =>
        Inner.OpenLinkAsync(queue, worker, lease, cancellationToken);

    public ValueTask DisposeAsync() => Inner.DisposeAsync();
}
