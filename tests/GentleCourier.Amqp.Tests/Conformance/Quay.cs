using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;
using GentleCourier.ByHand;
using GentleCourier.Companions;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Sqlite;
using GentleCourier.Watching;

namespace GentleCourier.Amqp.Tests.Conformance;

/// <summary>
/// Queues of the tests' broker that are this test's alone, with stores in files. The queues are made by whoever
/// attaches to them first; they would not survive the broker, which nobody stops here.
/// </summary>
public class Quay : Place
{
    private static int made;

    private readonly string path = Directory.CreateTempSubdirectory("courier-quay-").FullName;
    private readonly string prefix = $"q{Interlocked.Increment(ref made)}-";
    private readonly Dictionary<string, List<string>> routes = [];
    private readonly Lazy<IBroker> broker;

    public Quay() => broker = new(() => Open(TimeProvider.System));

    internal override IEngine Engine { get; } = new AmqpEngine(isSecure: false);

    internal override IEngine StoreEngine { get; } = new SqliteEngine();

    public override string Broker => $"{Address}/?queue={Named("{queue}")}";

    /// <summary>Where the broker is.</summary>
    protected virtual string Address => SharedBroker.One.Address;

    /// <summary>How the broker calls a queue.</summary>
    protected virtual string AddressOf(string name) => $"/queue/{name}";

    /// <summary>What the broker itself says of the queues whose names begin so, by the rest of their names.</summary>
    protected virtual IReadOnlyDictionary<string, (int Ready, int InHand)> AskAll(string prefix) =>
        SharedBroker.One.AskAll(prefix);

    public override string Store(string service) => $"sqlite:{path}/{service}.db";

    /// <summary>What tests have declared; of what they leave to receivers, what those would.</summary>
    public override IReadOnlyDictionary<string, string?> Settings
    {
        get
        {
            var settings = new Dictionary<string, string?>
            {
                ["Courier:Routes:test.tap"] = "taps",
                ["Courier:Routes:test.charged"] = "charges",
                ["Courier:Routes:rig.mark"] = "marks",
                ["Courier:Routes:rig.tick"] = "marks",
            };
            lock (routes)
                foreach (var (type, queues) in routes) settings[$"Courier:Routes:{type}"] = string.Join(',', queues);
            return settings;
        }
    }

    public override string RecordOf(string part) => throw new NotSupportedException();

    public override string LockBroker => throw new NotSupportedException();

    /// <summary>With the companion of those who receive.</summary>
    internal override IBroker OpenBroker(TimeProvider clock) => new Routed(
        new BrokerWithCompanion(
            Open(clock), StoreEngine.CreateCompanion(Crossing.Parse(Store("fares")), clock), clock),
        this);

    /// <summary>The broker alone.</summary>
    private protected virtual IBroker Open(TimeProvider clock) => base.OpenBroker(clock);

    /// <summary>What the broker itself says of a queue.</summary>
    public (int Ready, int InHand) Ask(string queue) => AskAll(prefix).GetValueOrDefault(queue);

    public override int UncountedDeaths => 1;

    /// <summary>The broker's name for a queue, or a pattern of queues, of this test.</summary>
    public string Named(string queue) => AddressOf(prefix + queue);

    /// <summary>Sends a message as somebody else would.</summary>
    internal async Task SendAsync(string queue, Action<WireBuffer> write)
    {
        await using var connection = await Peers.ConnectAsync(Address);
        var session = await connection.BeginSessionAsync(default);
        var link = await session.AttachSenderAsync("others", Named(queue), default);
        await link.SendAsync([write], static (write, to) => write(to), Crossing.Limit, default);
    }

    /// <summary>Takes events out of a place; the number in each.</summary>
    public static async Task<List<int>> ReadAsync(string address, int count) =>
        (await ReadWithNotesAsync(address, count)).ConvertAll(r => r.Number);

    internal static async Task<List<(int Number, Notes Notes)>> ReadWithNotesAsync(string address, int count)
    {
        await using var connection = await Peers.ConnectAsync(SharedBroker.One.Address);
        var session = await connection.BeginSessionAsync(default);
        var link = await session.AttachReceiverAsync("others", address, default);
        using var reader = new CloudEventReader();
        var read = new List<(int, Notes)>();
        using var limit = new CancellationTokenSource(Crossing.Limit);
        while (read.Count < count)
        {
            link.Grant((uint)(count - read.Count));
            var arrivals = await link.ReceiveAsync(count, int.MaxValue, limit.Token);
            foreach (var message in arrivals.Select(a => Message.Of(a.Message)))
                read.Add((Crossing.NumberOf(reader.Read(message)), Notes.Of(message)));
            link.Settle(arrivals.Select(a => new Transport.Verdict(a.Id, DeliveryState.Accepted)));
        }
        return read;
    }

    /// <summary>Sends bytes that are said to be an event.</summary>
    private Task SendAsItIsAsync(ReadOnlyMemory<byte> json, string queue) => SendAsync(queue, to =>
    {
        Properties.Shape.Write(to, new Properties { ContentType = "application/cloudevents+json" });
        Message.Begin(to, Section.Data);
        WireTypes.WriteBinary(to, json.Span);
    });

    public override async ValueTask DisposeAsync()
    {
        if (broker.IsValueCreated) await broker.Value.DisposeAsync();
        Directory.Delete(path, recursive: true);
        GC.SuppressFinalize(this);
    }

    /// <summary>Says of each event where it goes, as a relay would.</summary>
    private sealed class Routed(IBroker inner, Quay quay) : BrokerInFront(inner)
    {
        public override BrokerServices Services => Inner.Services with
        {
            Reports = new AskedReports(Inner.Reports!, Inner.Companion!.Reports!, quay),
        };

        public override Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken)
        {
            lock (quay.routes)
            {
                foreach (var (type, queue) in topology.Routes)
                {
                    if (!quay.routes.TryGetValue(type, out var queues)) quay.routes[type] = queues = [];
                    if (!queues.Contains(queue)) queues.Add(queue);
                }
            }
            return Inner.PrepareAsync(topology, create, cancellationToken);
        }

        public override async Task<IReadOnlyList<PublishResult>> PublishAsync(
            IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
        {
            foreach (var @event in events.Where(e => !IsSound(e.Json)))
                foreach (var queue in QueuesOf(@event.Type)) await quay.SendAsItIsAsync(@event.Json, queue);
            if (events.Any(e => !IsSound(e.Json)))
            {
                var rest = await PublishAsync([.. events.Where(e => IsSound(e.Json))], cancellationToken);
                return [.. rest, .. Enumerable.Repeat(PublishResult.Taken, events.Count - rest.Count)];
            }
            var sent = events.SelectMany(
                (e, i) => QueuesOf(e.Type).Select(q => (Place: i, Event: e with { Address = q }))).ToList();
            var results = await Inner.PublishAsync(sent.ConvertAll(s => s.Event), cancellationToken);
            return [.. events.Select((_, i) => sent.FindIndex(s => s.Place == i) is >= 0 and var first
                ? results[first] : PublishResult.Deferred("no queue is routed"))];
        }

        /// <summary>What is not, a service would not publish; others might.</summary>
        private static bool IsSound(ReadOnlyMemory<byte> json)
        {
            try
            {
                CourierEvent.Read(json);
                return true;
            }
            catch (UnreadableEventException)
            {
                return false;
            }
        }

        private string[] QueuesOf(string type) =>
            quay.Settings.TryGetValue($"Courier:Routes:{type}", out var queues) ? queues!.Split(',') : [];
    }

    /// <summary>
    /// With what waits and is in hand as the broker itself says at one moment, and not as workers last did.
    /// </summary>
    private sealed class AskedReports(IBrokerReports inner, IBrokerReports beside, Quay quay) : IBrokerReports
    {
        public Task<Topology> ReadTopologyAsync(CancellationToken cancellationToken) =>
            inner.ReadTopologyAsync(cancellationToken);

        public async Task<BrokerFigures> ReadFiguresAsync(CancellationToken cancellationToken)
        {
            // In the order in which an event travels: one that moves meanwhile is counted twice, and not never.
            var figures = await inner.ReadFiguresAsync(cancellationToken);
            var asked = await Task.Run(() => quay.AskAll(quay.prefix), cancellationToken);
            var taken = (await beside.ReadFiguresAsync(cancellationToken)).Queues
                .ToDictionary(q => q.Queue);
            return new(figures.Broker, figures.At, [.. figures.Queues.Select(Together)], figures.Workers)
            {
                Instructions = figures.Instructions,
            };

            QueueFigures Together(QueueFigures figures)
            {
                var (ready, inHand) = asked.GetValueOrDefault(figures.Queue);
                var over = taken.GetValueOrDefault(figures.Queue);
                return figures with
                {
                    Ready = ready + (over?.Ready ?? 0), InHand = inHand + (over?.InHand ?? 0),
                    Scheduled = over?.Scheduled ?? 0, DeadLetters = over?.DeadLetters ?? 0,
                };
            }
        }

        /// <summary>What waits is taken, and given back at once.</summary>
        public async Task<QueueLook> LookAsync(
            string queue, int limit, string? beyond, CancellationToken cancellationToken)
        {
            // All at once.
            if (beyond is not null) return new QueueLook([]);
            var seen = (await beside.PeekAsync(queue, int.MaxValue, cancellationToken)).ToList();
            await using var link = await quay.broker.Value.OpenLinkAsync(
                queue, "peek", TimeSpan.FromMinutes(1), cancellationToken);
            for (var left = quay.Ask(queue).Ready; left > 0;)
            {
                var taken = await link.ReceiveAsync(left, cancellationToken)
                    .WaitAsync(Crossing.Limit, cancellationToken);
                seen.AddRange(taken.Select(t => new QueuedEvent
                {
                    Place = "at the broker", Json = t.Json, Attempts = 0, State = QueuedState.Ready,
                    Arrived = DateTimeOffset.UtcNow,
                }));
                left -= taken.Count;
            }
            return new QueueLook(seen);
        }
    }
}
