using System.Reflection;
using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Conformance;

/// <summary>An engine, the real one, whose broker or store fails when a test says so.</summary>
internal sealed class TroubledEngine(IEngine inner) : IEngine
{
    /// <summary>Called before each call to the broker or a link, with its name; what it throws is thrown.</summary>
    public Action<string> Before { get; set; } = _ => { };

    /// <summary>The same before each call to a store.</summary>
    public Action<string> BeforeStore { get; set; } = _ => { };

    /// <summary>The same before each settling, with what is to be settled.</summary>
    public Action<IReadOnlyList<Settlement>> BeforeSettling { get; set; } = _ => { };

    /// <summary>How far away links say that the broker is; null: as it is.</summary>
    public TimeSpan? RoundTrip { get; set; }

    public string Scheme => inner.Scheme;

    public string StoreSchema => inner.StoreSchema;

    public string BrokerSchema => inner.BrokerSchema;

    public bool HoldsPassword(EngineAddress address) => inner.HoldsPassword(address);

    public IStorePort CreateStore(EngineAddress address, TimeProvider clock, ILogger? logger = null) =>
        Store.Around(inner.CreateStore(address, clock, logger), this);

    public IBroker CreateBroker(EngineAddress address, TimeProvider clock, ILogger? logger = null) =>
        new Broker(inner.CreateBroker(address, clock, logger), this);

    public IBroker CreateCompanion(EngineAddress store, TimeProvider clock, ILogger? logger = null) =>
        inner.CreateCompanion(store, clock, logger);

    /// <summary>The same trouble for stores of another engine.</summary>
    public TroubledEngine Beside(IEngine other) => new(other) { BeforeStore = call => BeforeStore(call) };

    /// <summary>Passes every call on.</summary>
    public class Store : DispatchProxy
    {
        private IStorePort? inner;
        private TroubledEngine? engine;

        public static IStorePort Around(IStorePort inner, TroubledEngine engine)
        {
            var proxy = Create<IStorePort, Store>();
            ((Store)proxy).inner = inner;
            ((Store)proxy).engine = engine;
            return proxy;
        }

        protected override object? Invoke(MethodInfo? targetMethod, object?[]? args)
        {
            engine!.BeforeStore(targetMethod!.Name);
            var result = targetMethod.Invoke(inner, BindingFlags.DoNotWrapExceptions, null, args, null);
            return result is Task<IDirectWay?> finding ? InTroubleAsync(finding, engine) : result;
        }

        private static async Task<IDirectWay?> InTroubleAsync(Task<IDirectWay?> finding, TroubledEngine engine) =>
            await finding is { } way ? new DirectWay(way, engine) : null;
    }

    private sealed class Broker(IBroker inner, TroubledEngine engine) : BrokerInFront(inner), IStamps
    {
        public override BrokerServices Services
        {
            get
            {
                engine.Before(nameof(Services));
                return Inner.Services with { Stamps = Inner.Stamps is null ? null : this };
            }
        }

        public Task<Stamped> ReadLastAsync(string store, CancellationToken cancellationToken)
        {
            engine.Before(nameof(ReadLastAsync));
            return Inner.Stamps!.ReadLastAsync(store, cancellationToken);
        }

        public override Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken)
        {
            engine.Before(nameof(PrepareAsync));
            return Inner.PrepareAsync(topology, create, cancellationToken);
        }

        public override Task<IReadOnlyList<PublishResult>> PublishAsync(
            IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
        {
            engine.Before(nameof(PublishAsync));
            return Inner.PublishAsync(events, cancellationToken);
        }

        public Task<IReadOnlyList<PublishResult>> PublishAsync(
            IReadOnlyList<EncodedEvent> events, Stamping stamping, CancellationToken cancellationToken)
        {
            engine.Before(nameof(PublishAsync));
            return Inner.Stamps!.PublishAsync(events, stamping, cancellationToken);
        }

        public override async Task<IReceivingLink> OpenLinkAsync(
            string queue, string worker, TimeSpan lease, CancellationToken cancellationToken)
        {
            engine.Before(nameof(OpenLinkAsync));
            return new Link(await Inner.OpenLinkAsync(queue, worker, lease, cancellationToken), engine);
        }
    }

    private sealed class DirectWay(IDirectWay inner, TroubledEngine engine) : IDirectWay
    {
        public Task<IReadOnlyDictionary<string, int>> MoveAsync(
            long term, int limit, CancellationToken cancellationToken)
        {
            engine.Before(nameof(MoveAsync));
            return inner.MoveAsync(term, limit, cancellationToken);
        }
    }

    private sealed class Link(IReceivingLink inner, TroubledEngine engine) : IReceivingLink
    {
        public TimeSpan? RenewEvery => inner.RenewEvery;

        public TimeSpan? RoundTrip => engine.RoundTrip ?? inner.RoundTrip;

        public async Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken)
        {
            engine.Before(nameof(ReceiveAsync));
            return await inner.ReceiveAsync(credit, cancellationToken);
        }

        public async Task<Exchange> SettleAsync(
            IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken)
        {
            engine.Before(nameof(SettleAsync));
            engine.BeforeSettling(settlements);
            return await inner.SettleAsync(settlements, credit, cancellationToken);
        }

        public Task ConfirmAsync(CancellationToken cancellationToken)
        {
            engine.Before(nameof(ConfirmAsync));
            return inner.ConfirmAsync(cancellationToken);
        }

        public void Withdraw() => inner.Withdraw();

        public async Task<IReadOnlyList<bool>> RenewAsync(
            IReadOnlyList<HandOver> deliveries, CancellationToken cancellationToken)
        {
            engine.Before(nameof(RenewAsync));
            return await inner.RenewAsync(deliveries, cancellationToken);
        }

        public ValueTask DisposeAsync() => inner.DisposeAsync();
    }
}
