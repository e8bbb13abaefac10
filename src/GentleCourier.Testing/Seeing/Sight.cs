using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Receiving.Handling;

namespace GentleCourier.Testing;

/// <summary>What a trial has seen of its services so far. Thread-safe.</summary>
internal sealed class Sight(TrialClock clock, Action<string>? log)
{
    private const int MostLines = 40;

    private readonly Lock gate = new();
    private readonly List<PublishedEvent> published = [];
    private readonly List<HandledEvent> handled = [];
    private readonly HashSet<(string Service, EventKey Key)> relayed = [];
    private readonly HashSet<(TrialFaults Fault, string Queue, EventKey Key)> broken = [];
    private readonly List<RunningHandler> running = [];
    private readonly HashSet<TakenDelivery> unsettled = [];
    private readonly Queue<EncodedEvent> copies = new();
    private readonly List<string> account = [];
    private readonly Queue<string> warnings = new();
    private readonly Signal changed = new();
    private long version;
    private int deliveries;
    private bool isRelayed;

    public TrialFaults Faults { get; set; }

    /// <summary>Whether anybody reads what is logged.</summary>
    public bool IsLogging => log is not null;

    /// <summary>Grows with everything that is seen.</summary>
    public long Version => Volatile.Read(ref version);

    /// <summary>How many deliveries have been settled.</summary>
    public int Deliveries => Volatile.Read(ref deliveries);

    /// <summary>Ends with the next thing that is seen.</summary>
    public Task Changed => changed.Next;

    public IReadOnlyList<PublishedEvent> Published
    {
        get
        {
            lock (gate) return [.. published];
        }
    }

    public IReadOnlyList<HandledEvent> Handled
    {
        get
        {
            lock (gate) return [.. handled];
        }
    }

    public IReadOnlyList<RunningHandler> Running
    {
        get
        {
            lock (gate) return [.. running];
        }
    }

    /// <summary>Whether an event is on its way to a receiver, or with one: more will be seen of it at once.</summary>
    public bool IsUnderWay
    {
        get
        {
            lock (gate) return isRelayed || unsettled.Count > 0;
        }
    }

    /// <summary>
    /// Whether something has been handled whose outcome nobody has told of yet: the broker may know it already.
    /// </summary>
    public bool HasUnsettled
    {
        get
        {
            lock (gate) return unsettled.Count > 0;
        }
    }

    /// <summary>Nobody will tell of it any more: it has been lost.</summary>
    public void ForgetUnsettled()
    {
        lock (gate) unsettled.Clear();
    }

    public void Relayed(string service, EncodedEvent encoded, ContractCodec codec)
    {
        var @event = CourierEvent.Read(encoded.Json);
        var seen = new PublishedEvent(service, @event, codec, clock.Now);
        lock (gate)
        {
            if (!relayed.Add((service, new EventKey(@event.Source, @event.Id)))) return;
            published.Add(seen);
            isRelayed = true;
            if (Faults.HasFlag(TrialFaults.PublishedTwice)) copies.Enqueue(encoded);
        }
        Note(seen.ToString());
    }

    public void Begins(RunningHandler handler)
    {
        clock.Hold();
        lock (gate)
        {
            running.Add(handler);
            isRelayed = false;
            foreach (var delivery in handler.Deliveries) unsettled.Add(delivery.Taken);
        }
        Seen();
    }

    public void Ended(RunningHandler handler)
    {
        lock (gate) running.Remove(handler);
        clock.Release();
        Seen();
    }

    /// <summary>What becomes of a delivery.</summary>
    public void Settled(TakenDelivery delivery, HandledEvent settled)
    {
        lock (gate) unsettled.Remove(delivery);
        Told(settled);
    }

    public void Told(HandledEvent settled)
    {
        lock (gate) handled.Add(settled);
        Interlocked.Increment(ref deliveries);
        Note(settled.ToString());
    }

    /// <summary>Whether this is the place to break something: the first time that an event comes by.</summary>
    public bool Breaks(TrialFaults fault, string queue, IReadOnlyList<ReadDelivery> deliveries)
    {
        if (!Faults.HasFlag(fault)) return false;
        lock (gate)
        {
            var isFirst = false;
            foreach (var delivery in deliveries) isFirst |= broken.Add((fault, queue, delivery.Key));
            return isFirst;
        }
    }

    /// <summary>What is to be published once more.</summary>
    public List<EncodedEvent> TakeCopies()
    {
        lock (gate)
        {
            var taken = copies.ToList();
            copies.Clear();
            return taken;
        }
    }

    /// <summary>What is wrong, with all that has happened so far.</summary>
    public TrialException Problem(string problem)
    {
        lock (gate)
        {
            var told = account.Count > MostLines ? account[^MostLines..] : account;
            var happened = told.Count == 0 ? "Nothing has happened so far."
                : $"What has happened so far{(account.Count > told.Count ? $", the last {MostLines} of it" : "")}:\n"
                    + string.Join('\n', told.Select(line => $"  {line}"));
            var warned = warnings.Count == 0 ? ""
                : $"\nThe services' last warnings:\n{string.Join('\n', warnings.Select(line => $"  {line}"))}";
            return new TrialException($"{problem}\n{happened}{warned}");
        }
    }

    /// <summary>The one that is expected, of what has been seen.</summary>
    public TSeen Single<TSeen, TContract>(string how, IReadOnlyList<TSeen> all, Func<TSeen, bool> isOf,
        Func<TSeen, TContract> dataOf, Func<TContract, bool>? which)
        where TSeen : notnull
    {
        var type = ContractCodec.WireTypeOf(typeof(TContract));
        var ofType = all.Where(isOf).ToList();
        var found = which is null ? ofType : ofType.FindAll(seen => which(dataOf(seen)));
        if (found.Count == 1) return found[0];
        var rest = which is not null && found.Count == 0 && ofType.Count > 0
            ? $"; {ofType.Count} of {type} are not the one:\n{Lines(ofType)}" : "";
        throw Problem($"expected one {type} to be {how}{(which is null ? "" : ", of those that are asked for")}, and "
            + (found.Count == 0 ? $"there is none{rest}" : $"there are {found.Count}:\n{Lines(found)}"));
    }

    public static string Lines<TSeen>(IEnumerable<TSeen> seen) => string.Join('\n', seen.Select(one => $"  {one}"));

    public void Warned(string line)
    {
        lock (gate)
        {
            warnings.Enqueue(line);
            if (warnings.Count > MostLines) warnings.Dequeue();
        }
    }

    public void Log(string line)
    {
        try
        {
            log?.Invoke(line);
        }
        catch (Exception)
        {
            // A test framework takes no output of a test that is over.
        }
    }

    private void Note(string line)
    {
        var said = $"{TrialText.Of(clock.Now)} {line}";
        lock (gate) account.Add(said);
        Log(said);
        Seen();
    }

    private void Seen()
    {
        Interlocked.Increment(ref version);
        changed.Raise();
    }
}

/// <summary>A call of a receiver that has not returned.</summary>
internal sealed class RunningHandler(
    string service, string queue, Type receiver, IReadOnlyList<ReadDelivery> deliveries)
{
    private readonly long began = Stopwatch.GetTimestamp();

    public IReadOnlyList<ReadDelivery> Deliveries => deliveries;

    public string Queue => queue;

    /// <summary>Its work is committed.</summary>
    public bool IsCommitted { get; set; }

    public override string ToString() =>
        $"{receiver.Name} of service '{service}', queue '{queue}', has been running for "
        + $"{TrialText.Of(Stopwatch.GetElapsedTime(began))} with "
        + string.Join(", ", deliveries.Select(d => $"{d.Event.Type} {d.Event.Id}"));
}
