using GentleCourier.Companions;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Sqlite;

namespace GentleCourier.Amqp.Tests.Conformance;

/// <summary>
/// Queues of the tests' broker that are this test's alone, with stores in files. The queues are made by whoever attaches
/// to them first; they would not survive the broker, which nobody stops here.
/// </summary>
public sealed class Quay : Place
{
    private static int made;

    private readonly string path = Directory.CreateTempSubdirectory("courier-quay-").FullName;
    private readonly string prefix = $"q{Interlocked.Increment(ref made)}-";
    private readonly Dictionary<string, List<string>> routes = [];

    public override IEngine Engine { get; } = new AmqpEngine(isSecure: false);

    public override IEngine StoreEngine { get; } = new SqliteEngine();

    public override string Broker => $"{SharedBroker.One.Address}/?queue=/queue/{prefix}{{queue}}";

    public override string Store(string service) => $"sqlite:{path}/{service}.db";

    public override IReadOnlyDictionary<string, string?> Settings { get; } = new Dictionary<string, string?>
    {
        ["Courier:Routes:test.tap"] = "taps",
        ["Courier:Routes:test.charged"] = "charges",
        ["Courier:Routes:rig.mark"] = "marks",
        ["Courier:Routes:rig.tick"] = "marks",
    };

    public override string RecordOf(string part) => throw new NotSupportedException();

    public override string LockBroker => throw new NotSupportedException();

    /// <summary>With the companion of those who receive.</summary>
    public override IBroker OpenBroker(TimeProvider clock) => new Routed(
        new BrokerWithCompanion(
            base.OpenBroker(clock),
            StoreEngine.CreateCompanion(Crossing.Parse(Store("fares")), clock), clock), this);

    public override async Task<bool> HoldsMoreAsync(string queue) =>
        await Task.Run(() => SharedBroker.One.Depth(prefix + queue)) > 0;

    public override ValueTask DisposeAsync()
    {
        Directory.Delete(path, recursive: true);
        return ValueTask.CompletedTask;
    }

    /// <summary>Says of each event where it goes, as a relay would.</summary>
    private sealed class Routed(IBroker inner, Quay quay) : IBroker
    {
        public string DisplayName => inner.DisplayName;

        public BrokerAbilities Abilities => inner.Abilities;

        public IBrokerReports? Reports => inner.Reports;

        public IDeadLetters? DeadLetters => inner.DeadLetters;

        public IHousekeeping? Housekeeping => inner.Housekeeping;

        public IWorkerRegister? Register => inner.Register;

        public Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken)
        {
            lock (quay.routes)
            {
                foreach (var (type, queue) in topology.Routes)
                {
                    if (!quay.routes.TryGetValue(type, out var queues)) quay.routes[type] = queues = [];
                    if (!queues.Contains(queue)) queues.Add(queue);
                }
            }
            return inner.PrepareAsync(topology, create, cancellationToken);
        }

        public async Task<IReadOnlyList<PublishResult>> PublishAsync(
            IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
        {
            var sent = events.SelectMany((e, i) => QueuesOf(e.Type).Select(q => (Place: i, Event: e with { Address = q })))
                .ToList();
            var results = await inner.PublishAsync(sent.ConvertAll(s => s.Event), cancellationToken);
            return [.. events.Select((_, i) => sent.FindIndex(s => s.Place == i) is >= 0 and var first
                ? results[first] : PublishResult.Deferred("no queue is routed"))];
        }

        public Task<IReceivingLink> OpenLinkAsync(
            string queue, string worker, TimeSpan lease, CancellationToken cancellationToken) =>
            inner.OpenLinkAsync(queue, worker, lease, cancellationToken);

        public ValueTask DisposeAsync() => inner.DisposeAsync();

        private List<string> QueuesOf(string type)
        {
            lock (quay.routes) return quay.routes.TryGetValue(type, out var queues) ? [.. queues]
                : quay.Settings.TryGetValue($"Courier:Routes:{type}", out var one) ? [one!] : [];
        }
    }
}
