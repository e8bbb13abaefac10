using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Conformance;

/// <summary>
/// A peer that pushes, and can do nothing else: credit is given ahead, a delivery belongs to its link and is gone with
/// it, nothing is delayed, counted, kept or told. In memory, for one process.
/// </summary>
public sealed class PushingEngine : IEngine
{
    private readonly Lock gate = new();
    private readonly Dictionary<string, LinkedList<ReadOnlyMemory<byte>>> queues = [];
    private readonly List<Link> links = [];

    public string Scheme => "push";

    public string StoreSchema => throw new NotSupportedException();

    public string BrokerSchema => "";

    /// <summary>How many links have been opened.</summary>
    public int Opened { get; private set; }

    /// <summary>What was rejected, and is nowhere any more.</summary>
    public List<ReadOnlyMemory<byte>> Discarded { get; } = [];

    /// <summary>What waits in a queue or is in hand.</summary>
    public int Depth(string queue)
    {
        lock (gate) return QueueOf(queue).Count + links.Where(l => l.Queue == queue).Sum(l => l.InHand);
    }

    /// <summary>Cuts all links: what they had goes back to the head of its queue, and to the next link.</summary>
    public void Cut()
    {
        lock (gate)
        {
            foreach (var link in links.ToList()) link.Lose();
            links.Clear();
        }
    }

    public bool HoldsPassword(EngineAddress address) => false;

    public IStorePort CreateStore(EngineAddress address, TimeProvider clock, ILogger? logger = null) =>
        throw new NotSupportedException();

    public IBroker CreateBroker(EngineAddress address, TimeProvider clock, ILogger? logger = null) => new Broker(this);

    private LinkedList<ReadOnlyMemory<byte>> QueueOf(string queue) =>
        queues.TryGetValue(queue, out var list) ? list : queues[queue] = [];

    /// <summary>Under the lock: gives to links what they have credit for.</summary>
    private void Push(string queue)
    {
        var waiting = QueueOf(queue);
        while (waiting.First is { Value: var json } && links.Find(l => l.Queue == queue && l.Credit > 0) is { } link)
        {
            waiting.RemoveFirst();
            link.Deliver(json);
        }
    }

    private sealed class Broker(PushingEngine engine) : IBroker
    {
        public string DisplayName => "push:peer";

        public BrokerAbilities Abilities => BrokerAbilities.None;

        public IBrokerReports? Reports => null;

        public IDeadLetters? DeadLetters => null;

        public IHousekeeping? Housekeeping => null;

        public IWorkerRegister? Register => null;

        public Task PrepareAsync(Topology topology, bool create, CancellationToken cancellationToken) =>
            Task.CompletedTask;

        /// <summary>Every event goes to the queue <c>taps</c>.</summary>
        public Task<IReadOnlyList<PublishResult>> PublishAsync(
            IReadOnlyList<EncodedEvent> events, CancellationToken cancellationToken)
        {
            lock (engine.gate)
            {
                foreach (var @event in events) engine.QueueOf("taps").AddLast(@event.Json);
                engine.Push("taps");
            }
            return Task.FromResult<IReadOnlyList<PublishResult>>([.. events.Select(_ => PublishResult.Taken)]);
        }

        public Task<IReceivingLink> OpenLinkAsync(
            string queue, string worker, TimeSpan lease, CancellationToken cancellationToken)
        {
            lock (engine.gate)
            {
                engine.Opened++;
                var link = new Link(engine, queue);
                engine.links.Add(link);
                return Task.FromResult<IReceivingLink>(link);
            }
        }

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;
    }

    private sealed class Pushed(ReadOnlyMemory<byte> json) : HandOver(json, attempt: null, abandoned: null);

    private sealed class Link(PushingEngine engine, string queue) : IReceivingLink
    {
        private readonly List<Pushed> unsettled = [], buffer = [];
        private TaskCompletionSource news = new(TaskCreationOptions.RunContinuationsAsynchronously);
        private bool lost;

        public string Queue => queue;

        public int Credit { get; private set; }

        public int InHand => unsettled.Count;

        public TimeSpan? RenewEvery => null;

        public async Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken)
        {
            while (true)
            {
                Task changed;
                lock (engine.gate)
                {
                    if (Take(credit) is { Count: > 0 } taken) return taken;
                    changed = news.Task;
                }
                await changed.WaitAsync(cancellationToken);
            }
        }

        public Task<Exchange> SettleAsync(
            IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken)
        {
            lock (engine.gate)
            {
                Check();
                foreach (var (delivery, outcome) in settlements)
                {
                    Assert.True(unsettled.Remove((Pushed)delivery), "settled twice, or of another link");
                    if (outcome is Outcome.Rejected) engine.Discarded.Add(delivery.Json);
                    else if (outcome is not Outcome.AcceptedOutcome) engine.QueueOf(queue).AddLast(delivery.Json);
                }
                var taken = credit > 0 ? Take(credit) : [];
                engine.Push(queue);
                return Task.FromResult(new Exchange([.. settlements.Select(_ => true)], taken));
            }
        }

        public Task<IReadOnlyList<bool>> RenewAsync(
            IReadOnlyList<HandOver> deliveries, CancellationToken cancellationToken) =>
            throw new NotSupportedException("nobody asked for that");

        public void Deliver(ReadOnlyMemory<byte> json)
        {
            Credit--;
            var delivery = new Pushed(json);
            unsettled.Add(delivery);
            buffer.Add(delivery);
            news.TrySetResult();
        }

        public void Lose()
        {
            lost = true;
            foreach (var delivery in Enumerable.Reverse(unsettled)) engine.QueueOf(queue).AddFirst(delivery.Json);
            unsettled.Clear();
            news.TrySetResult();
        }

        public ValueTask DisposeAsync()
        {
            lock (engine.gate)
            {
                if (engine.links.Remove(this)) Lose();
                engine.Push(queue);
            }
            return ValueTask.CompletedTask;
        }

        private List<HandOver> Take(int credit)
        {
            Check();
            Credit = Math.Max(0, credit - buffer.Count);
            engine.Push(queue);
            if (news.Task.IsCompleted) news = new(TaskCreationOptions.RunContinuationsAsynchronously);
            var taken = buffer.Take(credit).ToList<HandOver>();
            buffer.RemoveRange(0, taken.Count);
            return taken;
        }

        private void Check()
        {
            if (lost) throw new LinkLostException("the peer has hung up");
        }
    }
}
